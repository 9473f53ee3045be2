package stake

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
)

// Secrets are what the service keeps encrypted. Value is one of them by its name; its error
// says what to do. Key is the service's, and makes the marks.
type Secrets struct {
	Value func(name string) ([]byte, error)
	Key   []byte
}

// Sealed is a text made of a secret. A plan, and what is remembered of a host, has the text's
// mark alone, by which a change is noticed. Key and Text are there on the way to a host.
type Sealed struct {
	Secret string `json:"secret"`
	Mark   string `json:"mark,omitempty"`
	Lacks  string `json:"lacks,omitempty"` // why there is no text
	Key    []byte `json:"key,omitempty"`
	Text   string `json:"text,omitempty"`
}

// seal is the text that make makes of a secret, without the text.
func (s *Secrets) seal(secret string, make func([]byte) (string, error)) *Sealed {
	out := &Sealed{Secret: secret}
	text, err := s.text(secret, make)
	if err != nil {
		out.Lacks = err.Error()
		return out
	}
	if s != nil {
		out.Mark = Mark(s.Key, text)
	}
	return out
}

// put puts into a sealed text what a host needs to compare and to write it.
func (s *Secrets) put(in *Sealed, make func([]byte) (string, error)) {
	text, err := s.text(in.Secret, make)
	if in.Key = s.Key; err == nil && Mark(s.Key, text) == in.Mark {
		in.Text = text
	}
}

func (s *Secrets) text(secret string, make func([]byte) (string, error)) (string, error) {
	if s == nil {
		return "", nil
	}
	value, err := s.Value(secret)
	if err != nil {
		return "", err
	}
	text, err := make(value)
	if err != nil {
		return "", fmt.Errorf("secret %s: %w", secret, err)
	}
	return text, nil
}

// Mark is the mark of a text under a key: it says nothing of the text to who has not got the
// key.
func Mark(key []byte, text string) string {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Is says whether a text that was found is the one that is wanted.
func (s *Sealed) Is(found string) bool {
	return len(s.Key) > 0 && s.Mark != "" && Mark(s.Key, found) == s.Mark
}

// ErrNoText says that the text of a secret did not come with a step.
var ErrNoText = errors.New("the text of a secret did not come along: it was changed, or forgotten, since the plan was made; plan again")
