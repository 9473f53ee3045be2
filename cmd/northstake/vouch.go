package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"northstake/service/contract"
)

// vouchers are what is known of hosts' keys already.
type vouchers interface {
	// vouches returns the fingerprint of an offered key that is vouched for, and by
	// what; or "", and why none is.
	vouches(keys contract.HostKeys) (fingerprint, said string)
}

// vouchersOf reads the list that was given, nil for none.
func vouchersOf(o trustOptions) (vouchers, error) {
	switch {
	case o.knownHosts != "" && o.list != "":
		return nil, errors.New("give one of --known-hosts and --fingerprints")
	case o.knownHosts != "":
		check, err := knownhosts.New(o.knownHosts)
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", o.knownHosts, err)
		}
		return knownHosts{o.knownHosts, check}, nil
	case o.list != "":
		b, err := os.ReadFile(o.list)
		if err != nil {
			return nil, err
		}
		return readFingerprints(o.list, string(b))
	}
	return nil, nil
}

// knownHosts is a known_hosts file (sshd(8)).
type knownHosts struct {
	file  string
	check ssh.HostKeyCallback
}

func (k knownHosts) vouches(keys contract.HostKeys) (string, string) {
	said := "no key of it is in " + k.file
	for _, offered := range keys.Offered {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(offered.Key))
		if err != nil {
			continue
		}
		for _, name := range []string{keys.Address, keys.Host} {
			port := 22
			if keys.Port != 0 {
				port = keys.Port
			}
			at := net.JoinHostPort(name, strconv.Itoa(port))
			err := k.check(at, &net.TCPAddr{Port: port}, key)
			var unknown *knownhosts.KeyError
			var revoked *knownhosts.RevokedError
			switch {
			case err == nil:
				return offered.Fingerprint, fmt.Sprintf("%s has its key as that of %s", k.file, name)
			case errors.As(err, &revoked):
				return "", fmt.Sprintf("%s says that the key %s is revoked", k.file, offered.Fingerprint)
			case errors.As(err, &unknown) && len(unknown.Want) > 0:
				w := unknown.Want[0]
				said = fmt.Sprintf("%s:%d has another key of %s: %s", w.Filename, w.Line, name, ssh.FingerprintSHA256(w.Key))
			}
		}
	}
	return "", said
}

// fingerprints are those of hosts, by their names or addresses.
type fingerprints struct {
	file string
	of   map[string][]string
}

// readFingerprints reads lines "HOST FINGERPRINT".
func readFingerprints(file, text string) (fingerprints, error) {
	f := fingerprints{file, map[string][]string{}}
	for i, line := range strings.Split(text, "\n") {
		words := strings.Fields(line)
		if len(words) == 0 || strings.HasPrefix(words[0], "#") {
			continue
		}
		if len(words) != 2 || !strings.HasPrefix(words[1], "SHA256:") || len(words[1]) != len("SHA256:")+43 {
			return f, fmt.Errorf("%s:%d: %q is not a host and its fingerprint\n  write lines such as: quay1 SHA256:… (ssh-keygen -lf prints it)", file, i+1, line)
		}
		f.of[words[0]] = append(f.of[words[0]], words[1])
	}
	return f, nil
}

func (f fingerprints) vouches(keys contract.HostKeys) (string, string) {
	listed := append(slices.Clone(f.of[keys.Host]), f.of[keys.Address]...)
	if len(listed) == 0 {
		return "", "it is not in " + f.file
	}
	for _, k := range keys.Offered {
		if slices.Contains(listed, k.Fingerprint) {
			return k.Fingerprint, f.file + " has its fingerprint"
		}
	}
	return "", fmt.Sprintf("it offers %s, and %s has %s", keys.Offered[0].Fingerprint, f.file, listed[0])
}
