package stake

import (
	"fmt"

	"northstake/core/wire"
)

// Secrets are what the service keeps encrypted. Value is one of them by its name; its error
// says what to do. Former is what one was before that the service made itself; may be nil. Key is the
// service's, and makes the marks.
type Secrets struct {
	Value  func(name string) ([]byte, error)
	Former func(name string) ([]byte, error)
	Key    []byte
}

// Seal is the text that make makes of a secret, without the text.
func (s *Secrets) Seal(secret string, make func([]byte) (string, error)) *wire.Sealed {
	out := &wire.Sealed{Secret: secret}
	text, err := s.text(secret, make)
	if err != nil {
		out.Lacks = err.Error()
		return out
	}
	if s != nil {
		out.Mark = wire.Mark(s.Key, text)
	}
	return out
}

// Put puts into a sealed text what a host needs to compare and to write it.
func (s *Secrets) Put(in *wire.Sealed, make func([]byte) (string, error)) {
	in.Key = s.Key
	for _, of := range []func(string) ([]byte, error){s.Value, s.Former} {
		if of == nil {
			continue
		}
		if text, err := textOf(of, in.Secret, make); err == nil && wire.Mark(s.Key, text) == in.Mark {
			in.Text = text
			return
		}
	}
}

func (s *Secrets) text(secret string, make func([]byte) (string, error)) (string, error) {
	if s == nil {
		return "", nil
	}
	return textOf(s.Value, secret, make)
}

func textOf(of func(string) ([]byte, error), secret string, make func([]byte) (string, error)) (string, error) {
	value, err := of(secret)
	if err != nil {
		return "", err
	}
	text, err := make(value)
	if err != nil {
		return "", fmt.Errorf("secret %s: %w", secret, err)
	}
	return text, nil
}
