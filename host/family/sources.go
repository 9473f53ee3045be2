package family

import (
	"context"
	"strings"

	"northstake/core/wire"
)

// SourceForm is how a package manager takes an extra source.
type SourceForm interface {
	// Files are the files that declare a source, and the key's.
	Files(w wire.SourceWant) []wire.SourceFile
	// Sound says whether the manager can read its sources at all.
	Sound(ctx context.Context) error
	// Listed says whether the lists of a source, by its name, are there, or are read by the
	// manager itself when it needs them.
	Listed(ctx context.Context, name string) (bool, error)
	// Read reads the lists of one source, and says what is wrong with it.
	Read(ctx context.Context, name string) error
}

// SourceTrouble says in words what a package manager has against a source; "" when
// its output is of something else. The marks are those of gpgv and of the
// managers, which are told to speak English.
func SourceTrouble(output string) (what, fix string) {
	has := func(marks ...string) bool {
		for _, m := range marks {
			if strings.Contains(output, m) {
				return true
			}
		}
		return false
	}
	switch {
	case has("EXPKEYSIG", "KEYEXPIRED", "key expired", "key has expired", "expired on"):
		return "its signing key has expired", "get the key that the source signs with now, and declare that"
	case has("is not signed", "no longer signed") && !has("NO_PUBKEY", "public key is not available", "BADSIG"): // which apt says along with these
		return "it is not signed", "ask the source's owner for a signed one"
	case has("NO_PUBKEY", "public key is not available", "BADSIG", "GPG check FAILED", "Public key for", "GPG key retrieval failed", "not signed with the installed", "invalid key", "repomd.xml GPG signature verification error"):
		return "it is signed with another key than the one declared", "compare the key with what the source's owner says, and declare the right one"
	case has("not valid yet", "is not yet valid"):
		return "it is signed in the future as this host's clock has it", "set the host's clock"
	case has("Could not resolve", "Temporary failure resolving", "Couldn't resolve host", "Could not connect", "Connection refused", "connection timed out", "Connection timed out", "Unable to connect", "Couldn't connect", "Failed to connect", "Network is unreachable", "No route to host"):
		return "it cannot be reached", "check the URL, and the host's way to it"
	case has("404  Not Found", "404 Not Found", "Status code: 404", "does not have a Release file", "Status code: 4"):
		return "there is no such source at its URL", "check the URL, the suites and the parts"
	}
	return "", ""
}
