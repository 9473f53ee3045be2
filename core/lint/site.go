package lint

import (
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/idna"

	"northstake/core/check"
	"northstake/core/declare"
	"northstake/core/form"
	"northstake/core/near"
	"northstake/core/render"
)

func (l linter) site(name string, s *declare.Site) {
	here := keys("site", name)
	if !form.PlainName.MatchString(name) {
		l.Say(here, fmt.Sprintf("site name %q has characters it cannot have", name), "use lower-case letters, digits and hyphens")
	}
	if strings.HasPrefix(name, "other-names-") {
		l.Say(here, fmt.Sprintf("site name %q is kept for what answers to names that no site has", name), "choose another")
	}
	l.givens(s.Givens, here)
	if s.Server == "" && l.D.Lacks("site", name, "server") {
		l.Say(here, fmt.Sprintf("[site.%s] has no server", name), "add server = \""+strings.Join(render.Servers(), "\" or \"")+"\", or a kit that says it")
	}
	if len(s.Names) == 0 && l.D.Lacks("site", name, "names") {
		l.Say(here, fmt.Sprintf("[site.%s] has no names", name), "add names = […] (the host names that browsers will ask for), or a kit that says them")
	}
	for i, on := range s.On {
		if hosts, err := l.D.Match(on); err != nil || len(hosts) == 0 {
			l.Say(check.At(here, "on", strconv.Itoa(i)), fmt.Sprintf("no host is called %q", on), near.DidYouMean(on, l.hostWords(on)))
		}
	}
	if l.Written(check.At(here, "on")...) && len(s.On) == 0 {
		l.Say(check.At(here, "on"), "a site on no host is served nowhere", "name at least one host")
	}
	l.names(name, s)
	l.within(name, s)
	l.listen(s, here)
	l.https(name, s)
	l.besideSSH(name, s, here)
	if s.Root != "" {
		l.Root(s.Root, check.At(here, "root"))
	}
	l.looks(s, here)
	l.serving(s, &s.Serving, here)
	render.Check(l.Checker, name, s)
	if s.Content != nil {
		l.Content(s.Content, check.At(here, "content"), standing(s.Index, s.Otherwise), check.At(here, "index"))
	}
	for i, p := range s.Probes {
		l.Probe(p, check.At(here, "probe", strconv.Itoa(i)))
	}
	for _, u := range sorted(s.Paths) {
		l.path(name, s, u)
	}
	l.loops(name, s)
}

// crowded are directories that hold so much else that no container is to see all of one.
var crowded = []string{"/", "/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/opt", "/proc", "/root", "/run", "/sbin", "/sys", "/tmp", "/usr", "/var", "/var/lib", "/var/log"}

// within checks what counts for a site whose server runs in a container.
func (l linter) within(name string, s *declare.Site) {
	at := func(more ...string) []string { return keys(append([]string{"site", name}, more...)...) }
	if s.Image == "" {
		if s.ImageSecret != "" {
			l.Say(at("image_secret"), "a secret for an image that is not named", "add image = \"REGISTRY/NAME:TAG\", or take it out")
		}
		return
	}
	l.ImageName(s.Image, at("image"))
	l.Secret(s.ImageSecret, "image_secret", at("image_secret"))
	if s.PHP {
		l.Say(at("php"), "PHP is run by the host, and not in a container", "let a path pass on to what runs it, or take image out")
	}
	around := func(p string, of string, where []string) {
		if dir := path.Dir(p); p != "" && slices.Contains(crowded, dir) {
			l.Say(where, fmt.Sprintf("the container would see all of %s, the directory around this %s", dir, of), fmt.Sprintf("put it one directory deeper, such as %s/%s/%s", strings.TrimSuffix(dir, "/"), name, path.Base(p)))
		}
	}
	around(s.Root, "root", at("root"))
	for _, u := range sorted(s.Paths) {
		around(s.Paths[u].Root, "root", at("path", u, "root"))
	}
	if s.Log.Access != "off" {
		around(s.Log.Access, "log", at("log", "access"))
	}
	around(s.Log.Error, "log", at("log", "error"))
}

func (l linter) names(site string, s *declare.Site) {
	if l.Written(keys("site", site, "names")...) && len(s.Names) == 0 {
		l.Say(keys("site", site, "names"), "a site needs at least one name", "add the host name that browsers will ask for")
	}
	for i, n := range s.Names {
		l.name(n, keys("site", site, "names", strconv.Itoa(i)))
	}
	for i, n := range s.RedirectedNames {
		l.name(n, keys("site", site, "redirected_names", strconv.Itoa(i)))
	}
	if len(s.RedirectedNames) > 0 && len(s.Names) > 0 && strings.HasPrefix(s.Names[0], "*") {
		l.Say(keys("site", site, "names", "0"), fmt.Sprintf("visitors are redirected to %q, which is no single name", s.Names[0]), "put a name without * first")
	}
}

func (l linter) name(n string, at []string) {
	switch {
	case strings.Contains(n, "://"):
		l.Say(at, fmt.Sprintf("%q is a URL, not a host name", n), fmt.Sprintf("write %q", strings.Split(strings.SplitN(n, "://", 2)[1]+"/", "/")[0]))
	case strings.ToLower(n) != n && form.DNSName.MatchString(strings.ToLower(n)):
		l.Say(at, fmt.Sprintf("%q has capital letters", n), fmt.Sprintf("write %q", strings.ToLower(n)))
	case asciiName(n) != "":
		l.Say(at, fmt.Sprintf("%q has letters that names have in another form where they are looked up", n), fmt.Sprintf("write %q", asciiName(n)))
	case !form.DNSName.MatchString(n) || len(n) > 253:
		l.Say(at, fmt.Sprintf("%q is not a host name", n), "use letters, digits, hyphens and dots; *. in front for all below")
	}
}

// loopback says whether a name or address leads to the host that asks.
func loopback(name string) bool {
	at, err := netip.ParseAddr(name)
	return name == "localhost" || err == nil && at.IsLoopback()
}

// asciiName is a name with letters of other scripts as it is looked up (RFC 5891), "" for one that has
// none or cannot be one.
func asciiName(n string) string {
	rest, wild := strings.CutPrefix(n, "*.")
	ascii, err := idna.Lookup.ToASCII(rest)
	if err != nil || ascii == strings.ToLower(rest) || !form.DNSName.MatchString(ascii) {
		return ""
	}
	if wild {
		return "*." + ascii
	}
	return ascii
}

func (l linter) listen(s *declare.Site, here []string) {
	seen := map[string]bool{}
	for i, on := range s.Listen {
		at := check.At(here, "listen", strconv.Itoa(i))
		switch {
		case on.Port < 1 || on.Port > 65535:
			l.Say(at, fmt.Sprintf("port %d does not exist", on.Port), "use a number from 1 to 65535")
		case seen[on.On()] && on.Address == "":
			l.Say(at, fmt.Sprintf("port %d is listed twice", on.Port), "keep one of the two")
		case seen[on.On()]:
			l.Say(at, fmt.Sprintf("%s is listed twice", on.On()), "keep one of the two")
		}
		seen[on.On()] = true
		if a, err := netip.ParseAddr(on.Address); on.Address != "" && (err != nil || a.Zone() != "" || a.IsUnspecified()) {
			l.Say(check.At(at, "address"), fmt.Sprintf("%q is not an address of a host", on.Address), "write an IP address such as \"10.88.0.11\", or leave it out for all of them")
		}
	}
}

// besideSSH says that a site listens where a host lets the service in.
func (l linter) besideSSH(name string, s *declare.Site, here []string) {
	if s.Image != "" {
		return // in a container, whose own ports these are
	}
	for i, on := range s.Listen {
		for _, host := range l.D.HostsOf(name) {
			if _, to := l.D.Hosts[host].Transport(); to.Login && l.D.ReachOf(host).Port == on.Port {
				l.Say(check.At(here, "listen", strconv.Itoa(i)), fmt.Sprintf("at port %d the service gets in to host %s by SSH", on.Port, host), "listen on another port")
				break
			}
		}
	}
}

// looks checks what a site says of how it is shown, that paths do not say.
func (l linter) looks(s *declare.Site, here []string) {
	l.closed(s, check.At(here, "closed"))
	for _, status := range sorted(s.ErrorPages) {
		at := check.At(here, "error_pages", status)
		if n, err := strconv.Atoi(status); err != nil || n < 400 || n > 599 || len(status) != 3 {
			l.SayKey(at, fmt.Sprintf("%q is not the status of an error", status), "use a number from 400 to 599, such as 404")
		}
		if fix := form.URLPath(s.ErrorPages[status]); fix != "" || strings.Contains(s.ErrorPages[status], "?") {
			l.Say(at, fmt.Sprintf("%q is not the path of a page of the site", s.ErrorPages[status]), "write one such as \"/lost.html\"")
		}
	}
	if s.Charset != "" && !form.Charset.MatchString(s.Charset) {
		l.Say(check.At(here, "charset"), fmt.Sprintf("%q is not the name of a character set", s.Charset), "write one such as \"utf-8\"")
	}
	l.logs(s, here)
}

// logs checks where a site keeps its logs.
func (l linter) logs(s *declare.Site, here []string) {
	for key, file := range map[string]string{"access": s.Log.Access, "error": s.Log.Error} {
		if file == "" || file == "off" && key == "access" {
			continue
		}
		roots := []string{s.Root}
		for _, u := range sorted(s.Paths) {
			roots = append(roots, s.Paths[u].Root)
		}
		for _, root := range roots {
			if root != "" && strings.HasPrefix(file, root+"/") {
				l.Say(check.At(here, "log", key), fmt.Sprintf("this log lies in %s, where visitors are shown what is there", root), "write it below /var/log")
			}
		}
		at := check.At(here, "log", key)
		if what, fix := form.Log(file); what != "" {
			l.Say(at, what, fix)
		} else if form.Bad(file) != "" || strings.ContainsAny(file, " #%") {
			l.Say(at, fmt.Sprintf("%q cannot be the file of a log", file), "use a plainer name")
		}
	}
	if s.Log.Form != "" && (s.Log.Access == "" || s.Log.Access == "off") {
		l.Say(check.At(here, "log", "form"), "a form without a file of the requests says nothing", "add access = \"/var/log/…\"")
	}
}

// hostWords are what a word of a site's "on" could have meant: labels where it is
// one, names elsewhere.
func (l linter) hostWords(word string) []string {
	if !strings.HasPrefix(word, "label:") {
		return sorted(l.D.Hosts)
	}
	labels := map[string]bool{}
	for _, h := range l.D.Hosts {
		for _, label := range h.Labels {
			labels["label:"+label] = true
		}
	}
	return sorted(labels)
}

func (l linter) index(index []string, at []string) {
	for i, f := range index {
		if slices.Contains(index[:i], f) {
			l.Say(check.At(at, strconv.Itoa(i)), fmt.Sprintf("%q is named twice", f), "keep one of the two")
		}
		if !form.FileName(f) {
			l.Say(check.At(at, strconv.Itoa(i)), fmt.Sprintf("%q is not a plain file name", f), "write a name such as \"index.html\"")
		}
	}
}

// standing are the files that can stand for a directory: its index files, and the page that answers
// for whatever is no file.
func standing(index []string, otherwise string) []string {
	if otherwise == "" {
		return index
	}
	if len(index) == 0 {
		index = []string{"index.html"}
	}
	return append(slices.Clone(index), otherwise)
}
