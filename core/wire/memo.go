package wire

import (
	"bytes"
	"encoding/json"
	"sync"
)

// Memo keeps what was decoded, for a caller that meets the same JSON again and
// again: a declaration's content can list thousands of files. What is decoded
// through a memo is shared and must not be changed. A nil Memo keeps nothing.
type Memo struct {
	mu   sync.Mutex
	kept map[string]memo
}

type memo struct {
	raw   json.RawMessage
	value any
}

// NewMemo makes an empty memo.
func NewMemo() *Memo { return &Memo{kept: map[string]memo{}} }

// Decode reads raw, or returns what the same bytes were read as before under the
// same key.
func Decode[T any](m *Memo, key string, raw json.RawMessage) (v T, err error) {
	if m == nil || len(raw) == 0 {
		return v, json.Unmarshal(raw, &v)
	}
	m.mu.Lock()
	k, ok := m.kept[key]
	m.mu.Unlock()
	// The very same memory needs no look at its bytes.
	if ok && len(k.raw) == len(raw) && (&k.raw[0] == &raw[0] || bytes.Equal(k.raw, raw)) {
		if v, ok := k.value.(T); ok {
			return v, nil
		}
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		return v, err
	}
	m.mu.Lock()
	m.kept[key] = memo{raw, v}
	m.mu.Unlock()
	return v, nil
}
