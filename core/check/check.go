// Package check is what finds mistakes in a declaration: a note of them, each with its
// place, and the checks that several tables share. It changes nothing that it looks
// at.
package check

import (
	"fmt"
	"net/netip"
	"slices"
	"unicode/utf8"

	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
)

// TextLimit bounds a text in a declaration or beside it, in bytes, and FileLimit a file that is written as it is.
const (
	TextLimit = 256 << 10
	FileLimit = 1 << 20
)

// Checker notes what is wrong with a declaration.
type Checker struct {
	D        *declare.Declaration
	Problems declare.Problems
}

// At are the keys of something below others.
func At(at []string, below ...string) []string { return append(slices.Clone(at), below...) }

// Say notes a mistake at the value with the given keys.
func (c *Checker) Say(at []string, what, fix string) {
	c.Problems = append(c.Problems, c.D.Problem(at, what, fix))
}

// SayKey notes a mistake in the last of the given keys itself.
func (c *Checker) SayKey(at []string, what, fix string) { c.Say(declare.KeyAt(at...), what, fix) }

// Secret checks what is to be the name of a secret, as key has it.
func (c *Checker) Secret(name, key string, at []string) {
	if name != "" && !form.PlainName.MatchString(name) {
		c.Say(at, key+" names a secret, and this is not a secret's name", "write the secret's name here, and give its value to northstake secret keep NAME")
	}
}

// ImageName says what is wrong with the name of an image.
func (c *Checker) ImageName(name string, at []string) {
	if !form.Image.MatchString(name) {
		c.Say(at, fmt.Sprintf("%q is not the name of an image", name), "write REGISTRY/NAME:TAG, or REGISTRY/NAME@sha256:DIGEST, in small letters")
	}
}

// Written says whether a value stands under these keys.
func (c *Checker) Written(at ...string) bool { return c.D.Written(at...) }

// Place checks the path of something that is to lie on a host, and says whether it is
// sound.
func (c *Checker) Place(p string, at []string) bool {
	what, fix := form.Place(p)
	if what != "" {
		c.Say(at, what, fix)
	}
	return what == ""
}

// Root checks the path of a document root.
func (c *Checker) Root(p string, at []string) {
	if what, fix := form.Root(p); what != "" {
		c.Say(at, what, fix)
	}
}

// OwnerAndMode checks who owns a thing, and its mode, which stand below at.
func (c *Checker) OwnerAndMode(owner, group, mode string, at []string) {
	c.Owner(owner, group, at)
	c.Mode(mode, At(at, "mode"))
}

// Owner checks who owns a thing.
func (c *Checker) Owner(owner, group string, at []string) {
	for _, a := range []struct{ key, v string }{{"owner", owner}, {"group", group}} {
		if a.v != "" && !form.Account.MatchString(a.v) {
			c.Say(At(at, a.key), fmt.Sprintf("%q is not the name of an account", a.v), "use lower-case letters, digits, hyphens and underscores")
		}
	}
}

// Mode checks a mode in octal, "" for none.
func (c *Checker) Mode(mode string, at []string) {
	if mode != "" && !form.Mode.MatchString(mode) {
		c.Say(at, fmt.Sprintf("%q is not a mode", mode), "write three octal digits, such as \"0644\"")
	}
}

// DirectoryMode checks the mode of a directory in octal, "" for none.
func (c *Checker) DirectoryMode(mode string, at []string) {
	if mode != "" && !form.DirectoryMode.MatchString(mode) {
		c.Say(at, fmt.Sprintf("%q is not a mode of a directory", mode), "write three octal digits, such as \"0755\", with 2 before them where new files get its group, and 1 where only who owns a file takes it away")
	}
}

// Names checks what a package or service is called on other families, in a table of
// names below at. What is the sort of name.
func (c *Checker) Names(names map[string]string, at []string, like form.Pattern, what string) {
	for _, family := range sorted(names) {
		sub := At(at, family)
		if !form.PlainName.MatchString(family) {
			c.Say(sub, fmt.Sprintf("%q is not the name of a family of systems", family), "northstake show HOST names the family of a host")
		}
		if n := names[family]; n != "" && !like.MatchString(n) {
			c.Say(sub, fmt.Sprintf("%q is not a %s name", n, what), "write the name that the family uses")
		}
	}
}

// Beside checks a file beside the declaration that is needed as text.
func (c *Checker) Beside(p string, at []string) { c.beside(p, at, TextLimit, true) }

// BesideAsItIs checks one that may be any bytes.
func (c *Checker) BesideAsItIs(p string, at []string) { c.beside(p, at, FileLimit, false) }

func (c *Checker) beside(p string, at []string, limit int64, text bool) {
	var names []string
	for _, f := range c.files() {
		if f.Path != p {
			names = append(names, f.Path)
			continue
		}
		switch {
		case f.Size > limit:
			c.Say(at, fmt.Sprintf("%s is larger than %d KB", p, limit>>10), "publish large files as content")
		case text && (f.Data != nil || f.Text != nil && !utf8.ValidString(*f.Text)):
			c.Say(at, fmt.Sprintf("%s is not text in UTF-8", p), "publish other files as content")
		}
		return
	}
	c.Say(at, fmt.Sprintf("there is no file %q beside the declaration", p), near.DidYouMean(p, names))
}

// Network checks a network, or one address.
func (c *Checker) Network(n string, at []string) {
	prefix, err := netip.ParsePrefix(n)
	if addr, bad := netip.ParseAddr(n); bad == nil {
		c.Say(at, fmt.Sprintf("%q is an address, not a network", n), fmt.Sprintf("write \"%s/%d\" for it alone", n, addr.BitLen()))
	} else if err != nil {
		c.Say(at, fmt.Sprintf("%q is not a network", n), "write an address and the length of its prefix, such as \"10.0.0.0/8\"")
	} else if prefix.Masked() != prefix || prefix.String() != n {
		c.Say(at, fmt.Sprintf("%q is not in its shortest form", n), fmt.Sprintf("write %q", prefix.Masked().String()))
	} else if prefix.Bits() == 0 {
		c.Say(at, fmt.Sprintf("%q is everybody", n), "leave networks out where everybody is meant")
	}
}

func (c *Checker) files() []declare.File {
	if m := c.D.Beside(); m != nil {
		return m.Files
	}
	return nil
}
