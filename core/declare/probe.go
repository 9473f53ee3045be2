package declare

// Probe is an HTTP check of a site: what is asked, from where, and what the answer has to be.
type Probe struct {
	Path     string            `toml:"path" json:"path" doc:"URL path, from /." required:"true" example:"\"/\""`
	Method   string            `toml:"method" json:"method,omitempty" doc:"Method of the request." default:"GET" example:"\"HEAD\""`
	Headers  map[string]string `toml:"headers" each:"HEADER" json:"headers,omitempty" doc:"Headers of the request." example:"{ Accept = \"text/html\" }"`
	Body     string            `toml:"body" json:"body,omitempty" doc:"Body of the request." example:"\"from=quay1\""`
	From     []string          `toml:"from" json:"from_places,omitempty" doc:"Where it is made: inside the host, outside of it (by the service), or on other hosts of the ground, by name." default:"[\"inside\", \"outside\"]" example:"[\"outside\", \"pier1\"]"`
	Resolver string            `toml:"resolver" json:"resolver,omitempty" doc:"What looks up the site's name: \"none\" asks the host straight by its declared address; \"system\" uses the resolver of the machine that makes the probe; an IP address is a DNS server to ask." default:"none" example:"\"system\""`
	Within   string            `toml:"within" json:"within,omitempty" doc:"How long all of it may take." default:"5s" example:"\"30s\""`
	Follows  bool              `toml:"follows" json:"follows,omitempty" doc:"Whether redirects are followed." default:"false" example:"true"`

	Status   int               `toml:"status" json:"status,omitempty" doc:"Status that the answer has." default:"200" example:"200"`
	Contains string            `toml:"contains" json:"contains,omitempty" doc:"Text that the page contains." example:"\"Next sailing\""`
	Matches  string            `toml:"matches" json:"matches,omitempty" doc:"Regular expression that the page matches, in the form of RE2." example:"\"tide: [0-9]+ m\""`
	Shows    map[string]string `toml:"shows" each:"HEADER" json:"shows,omitempty" doc:"Headers of the answer; a * stands for any text, and an empty one for none at all." example:"{ Content-Type = \"text/html*\" }"`
	EndsAt   string            `toml:"ends_at" json:"ends_at,omitempty" doc:"Where redirects lead: a path of the site or a URL. Of one that is not followed, where it says to go." example:"\"/sailings\""`
}
