package wire

// RestartWant says that a run may restart the host when it needs that.
type RestartWant struct{}

// RestartFound is why the host needs a restart, "" where it does not.
type RestartFound struct {
	Needed string `json:"needed,omitempty"`
}
