package wire

// ProbePlaces are the places of a probe that are no hosts.
const (
	ProbeInside  = "inside"
	ProbeOutside = "outside"
)

// What a probe's Resolver can be, beside the address of a DNS server.
const (
	ResolverNone   = "none"
	ResolverSystem = "system"
)

// Check is one HTTP check: what is asked for, where from, and what the answer has to be. Its fields are
// those of declare.Probe, where the keys of the declaration say what each is.
type Check struct {
	Path     string            `json:"path"`
	Method   string            `json:"method,omitempty"`
	Headers  map[string]string `json:"headers,omitempty"`
	Body     string            `json:"body,omitempty"`
	From     []string          `json:"from_places,omitempty"`
	Resolver string            `json:"resolver,omitempty"`
	Within   string            `json:"within,omitempty"`
	Follows  bool              `json:"follows,omitempty"`

	Status   int               `json:"status,omitempty"`
	Contains string            `json:"contains,omitempty"`
	Matches  string            `json:"matches,omitempty"`
	Shows    map[string]string `json:"shows,omitempty"`
	EndsAt   string            `json:"ends_at,omitempty"`
}

// Straight says whether a host is asked by the address that is declared.
func (c Check) Straight() bool { return c.Resolver == "" || c.Resolver == ResolverNone }

// Places are where it is made.
func (c Check) Places() []string {
	if len(c.From) == 0 {
		return []string{ProbeInside, ProbeOutside}
	}
	return c.From
}

// Probe is one HTTP check of a site on one host.
type Probe struct {
	Site     string `json:"site"`
	Host     string `json:"host"`
	Endpoint        // Address where the site listens at that one alone
	Check

	Fingerprint string `json:"fingerprint,omitempty"` // of the certificate that is to be shown, whoever has signed it: SHA-256 in hex
}
