package declare

// Probe is an HTTP check of a site: what is asked, from where, and what the answer has to be.
type Probe struct {
	Path     string            `toml:"path" json:"path" required:"true" example:"\"/\""`
	Method   string            `toml:"method" json:"method,omitempty" default:"GET" example:"\"HEAD\""`
	Headers  map[string]string `toml:"headers" each:"HEADER" json:"headers,omitempty" example:"{ Accept = \"text/html\" }"`
	Body     string            `toml:"body" json:"body,omitempty" example:"\"from=quay1\""`
	From     []string          `toml:"from" json:"from_places,omitempty" default:"[\"inside\", \"outside\"]" example:"[\"outside\", \"pier1\"]"`
	Resolver string            `toml:"resolver" json:"resolver,omitempty" default:"none" example:"\"system\""`
	Within   string            `toml:"within" json:"within,omitempty" default:"5s" example:"\"30s\""`
	Follows  bool              `toml:"follows" json:"follows,omitempty" default:"false" example:"true"`

	Status   int               `toml:"status" json:"status,omitempty" default:"200" example:"200"`
	Contains string            `toml:"contains" json:"contains,omitempty" example:"\"Next sailing\""`
	Matches  string            `toml:"matches" json:"matches,omitempty" example:"\"tide: [0-9]+ m\""`
	Shows    map[string]string `toml:"shows" each:"HEADER" json:"shows,omitempty" example:"{ Content-Type = \"text/html*\" }"`
	EndsAt   string            `toml:"ends_at" json:"ends_at,omitempty" example:"\"/sailings\""`
}

var _ = Explain[Probe](map[string]string{
	"path":     "URL path, from /.",
	"method":   "Method of the request.",
	"headers":  "Headers of the request.",
	"body":     "Body of the request.",
	"from":     "Where it is made: inside the host, outside of it (by the service), or on other hosts of the ground, by name.",
	"resolver": "What looks up the site's name: \"none\" asks the host straight by its declared address; \"system\" uses the resolver of the machine that makes the probe; an IP address is a DNS server to ask.",
	"within":   "How long all of it may take.",
	"follows":  "Whether redirects are followed.",
	"status":   "Status that the answer has.",
	"contains": "Text that the page contains.",
	"matches":  "Regular expression that the page matches, in the form of RE2.",
	"shows":    "Headers of the answer; a * stands for any text, and an empty one for none at all.",
	"ends_at":  "Where redirects lead: a path of the site or a URL. Of one that is not followed, where it says to go.",
})
