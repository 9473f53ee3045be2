package stake

import (
	"northstake/core/stake/claim"
)

// ClaimsOf collects what some stakes of one host claim, in their order.
func ClaimsOf(stakes []Stake) []claim.Claim {
	out := []claim.Claim{}
	for _, s := range stakes {
		k, err := KindOf(s.Type)
		if err != nil || k.Claims == nil {
			continue
		}
		for _, c := range k.Claims(s) {
			c.By, c.From = s.Local(), s.From
			out = append(out, c)
		}
	}
	return out
}
