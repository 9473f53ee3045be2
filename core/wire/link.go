package wire

// LinkWant is a symbolic link.
type LinkWant struct {
	Path     Path   `json:"path"`
	PointsTo string `json:"points_to"`
}

// LinkWork makes a link, or, with Away, takes it away.
type LinkWork struct {
	LinkWant
	Away bool `json:"away,omitempty"`
}
