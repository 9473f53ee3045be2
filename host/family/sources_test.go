package family

import "testing"

// What a package manager says of a source is told as what it is: without a signature, and with a
// signature of somebody else's, are two things (M6).
func TestWhatIsWrongWithASource(t *testing.T) {
	for output, want := range map[string]string{
		// apt, of a repository that is signed with an unknown key, and of one that is not signed.
		"W: GPG error: http://packages.test ./ InRelease: The following signatures couldn't be verified because the public key is not available: NO_PUBKEY 1234\nE: The repository 'http://packages.test ./ InRelease' is not signed.": "it is signed with another key than the one declared",
		"E: The repository 'http://packages.test ./ Release' is not signed.": "it is not signed",
		// dnf, of packages.
		"Package tides-1-1.noarch.rpm is not signed\nError: GPG check FAILED":                               "it is not signed",
		"Public key for tides-1-1.noarch.rpm is not installed\nError: GPG check FAILED":                     "it is signed with another key than the one declared",
		"W: GPG error: http://packages.test ./ InRelease: EXPKEYSIG 1234\nE: The repository is not signed.": "its signing key has expired",
		"Could not resolve 'packages.test'":                                                                 "it cannot be reached",
		"all is well":                                                                                       "",
	} {
		if got, fix := SourceTrouble(output); got != want || (fix == "") != (want == "") {
			t.Errorf("%q is told as %q (%s), want %q", output, got, fix, want)
		}
	}
}
