package wire

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
)

// Sealed is a text made of a secret. A plan, and what is remembered of a host, has the text's
// mark alone, by which a change is noticed. Key and Text are there on the way to a host.
type Sealed struct {
	Secret string `json:"secret"`
	Mark   string `json:"mark,omitempty"`
	Lacks  string `json:"lacks,omitempty"` // why there is no text
	Key    []byte `json:"key,omitempty"`
	Text   string `json:"text,omitempty"`
}

// CertificateSecret is what the name of the secret begins with that is the private key of a certificate. No
// secret of people's is called so.
const CertificateSecret = "certificate/"

// Mark is the mark of a text under a key: it says nothing of the text to who has not got the
// key.
func Mark(key []byte, text string) string {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// Is says whether a text that was found is the one that is wanted.
func (s *Sealed) Matches(found string) bool {
	return len(s.Key) > 0 && s.Mark != "" && Mark(s.Key, found) == s.Mark
}

// ErrNoText says that the text of a secret did not come with a step.
var ErrNoText = errors.New("the text of a secret did not come along: it was changed, or forgotten, since the plan was made; plan again")
