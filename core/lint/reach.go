package lint

import (
	"fmt"
	"strconv"

	"northstake/core/declare"
	"northstake/core/form"
)

func (l linter) reach(r declare.Reach, at []string) {
	if r.User != "" && !form.Account.MatchString(r.User) {
		l.Say(append(at, "user"), fmt.Sprintf("user %q is not a login name", r.User), "use lower-case letters, digits, hyphens and underscores")
	}
	if l.Written(append(at, "port")...) && (r.Port < 1 || r.Port > 65535) {
		l.Say(append(at, "port"), fmt.Sprintf("port %d does not exist", r.Port), "use a number from 1 to 65535")
	}
	for i, f := range r.HostKeyAuthorities {
		sub := append(append([]string{}, at...), "host_key_authorities", strconv.Itoa(i))
		l.Beside(f, sub)
		if text, err := l.D.TextBeside(f); err == nil {
			for _, k := range declare.AuthorityKeys(text) {
				if !form.PublicKey.MatchString(k) {
					l.Say(sub, fmt.Sprintf("%s holds %q, which is no public SSH key", f, k), "put the authority's public key there, a line that begins with ssh-ed25519 or the like")
				}
			}
		}
	}
	for key, v := range map[string]string{"key_secret": r.KeySecret, "password_secret": r.PasswordSecret, "sudo_secret": r.SudoSecret} {
		l.Secret(v, key, append(append([]string{}, at...), key))
	}
	if n, ok := form.Seconds(r.TakenBackAfter); r.TakenBackAfter != "" && (!ok || n < 30 || n > 24*60*60) {
		l.Say(append(append([]string{}, at...), "taken_back_after"), fmt.Sprintf("%q is no length of time from 30s to 24h", r.TakenBackAfter), "write taken_back_after = \"10m\"")
	}
	if r.SudoSecret != "" && r.SudoAsks != nil && *r.SudoAsks {
		l.Say(append(append([]string{}, at...), "sudo_asks"), "the password for sudo is held in sudo_secret, and asked for as well", "keep one of the two")
	}
}
