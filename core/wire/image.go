package wire

import (
	"time"
)

// ImageWant is an image that a host is to have. Login is USER:PASSWORD for its registry.
type ImageWant struct {
	Image string  `json:"image"`
	Login *Sealed `json:"login,omitempty"`
}

// ImageFound is what an engine has of an image, and what its registry offers under the name.
// Digest is that which the registry gave it when it was fetched. Silent says why the registry
// said nothing.
type ImageFound struct {
	Engine  *Trouble  `json:"engine,omitempty"`
	ID      string    `json:"id,omitempty"` // "" where the host has not got it
	Digest  string    `json:"digest,omitempty"`
	Made    time.Time `json:"made,omitzero"`
	Size    int64     `json:"size,omitempty"`
	Offered string    `json:"offered,omitempty"`
	Silent  *Trouble  `json:"silent,omitempty"`
	Holds   string    `json:"holds,omitempty"` // of one that was kept of a host, which and as what
}

// ImageWork fetches an image, or, with Away, takes it away.
type ImageWork struct {
	ImageWant
	Away bool `json:"away,omitempty"`
}
