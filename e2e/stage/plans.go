package stage

import (
	"strings"

	"northstake/service/contract"
)

// Texts are what the steps of a plan's only host would do.
func Texts(p contract.Plan) []string {
	var out []string
	for _, s := range p.Hosts[0].Steps {
		out = append(out, s.Text)
	}
	return out
}

// Blocked are the blockers of a plan, in one text.
func (g *Ground) Blocked() string {
	g.T.Helper()
	p := g.Plan(2)
	var out []string
	for _, h := range p.Hosts {
		for _, b := range h.Blockers {
			out = append(out, b.Address+": "+b.What)
		}
	}
	return strings.Join(out, "\n")
}
