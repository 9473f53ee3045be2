package render

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"northstake/core/check"
	"northstake/core/declare"
)

var _ = register("httpd", Server{Render: Httpd, Complaint: httpdComplaint, Check: checkHttpd})

func checkHttpd(c *check.Checker, name string, s *declare.Site) {
	if slices.Contains(s.Index, "disabled") {
		c.Say([]string{"site", name, "index"}, "the index file \"disabled\" has a meaning of its own for this server: it serves none", "give the file another name")
	}
}

// Httpd renders a virtual host for the Apache HTTP server, version 2.4
// (https://httpd.apache.org/docs/2.4: core, mod_alias, mod_authz_core, mod_dir).
func Httpd(d *declare.Declaration, s Site) (Text, error) {
	site := d.Sites[s.Name]
	w := &writer{d: d, site: s.Name}
	w.line(w.at(), "# Site %s of ground %s. North Stake writes this file.", s.Name, d.Ground.Name)
	var on []string
	for i, port := range site.ListenOn() {
		on = append(on, fmt.Sprintf("*:%d", port))
		if slices.Contains(s.Listens, port) {
			continue
		}
		// Two sites may declare one port, and the server listens on it once.
		p := w.at("listen", fmt.Sprint(i))
		w.line(p, "<IfDefine !NORTHSTAKE_LISTENS_%d>", port)
		w.line(p, "    Define NORTHSTAKE_LISTENS_%d", port)
		w.line(p, "    Listen %d", port)
		w.line(p, "</IfDefine>")
	}
	w.line(w.at("listen"), "<VirtualHost %s>", strings.Join(on, " "))
	w.line(w.at("names"), "    ServerName %s", strings.Replace(site.Names[0], "*", "www", 1))
	for i, n := range site.Names {
		if i > 0 || strings.HasPrefix(n, "*") {
			w.line(w.at("names", fmt.Sprint(i)), "    ServerAlias %s", n)
		}
	}
	w.line(w.at("root"), "    DocumentRoot %s", w.q(s.Root))
	w.directory(w.at("root"), w.at("index"), s.Root, site.Index)
	for _, u := range pathsOf(site) {
		p := site.Paths[u]
		// mod_dir sends a browser from /path to /path/.
		w.line(w.at("path", u), "    Alias %s %s", w.q(u), w.q(p.Root))
		w.directory(w.at("path", u, "root"), w.at("path", u, "index"), p.Root, p.Index)
	}
	w.line(w.at(), "</VirtualHost>")
	mark := w.mark()
	w.line(w.at(), "# By this the server says on the host itself which text of the site it has loaded.")
	w.line(w.at("listen"), "<VirtualHost %s>", strings.Join(on, " "))
	w.line(w.at(), "    ServerName %s", MarkName(s.Name))
	w.line(w.at(), "    DocumentRoot /nonexistent")
	w.line(w.at(), "    <Location \"/\">")
	w.line(w.at(), "        Require ip 127.0.0.1")
	w.line(w.at(), "    </Location>")
	w.line(w.at(), "    ErrorDocument 404 %s", w.q(mark))
	w.line(w.at(), "    <IfModule mod_log_config.c>")
	w.line(w.at(), "        CustomLog /dev/null \"%%h\"")
	w.line(w.at(), "    </IfModule>")
	w.line(w.at(), "</VirtualHost>")
	return w.text()
}

// directory lets visitors into a document root, and in no other way than by its
// files: no lists of files, no .htaccess.
func (w *writer) directory(root, index declare.Position, dir string, names []string) {
	w.line(root, "    <Directory %s>", w.q(dir))
	w.line(root, "        Options FollowSymLinks")
	w.line(root, "        AllowOverride None")
	w.line(root, "        Require all granted")
	w.line(index, "        DirectoryIndex %s", w.words(names))
	w.line(root, "    </Directory>")
}

// httpdLine is how the Apache HTTP server names a line: "AH00526: Syntax error on
// line 3 of /file:", with what is wrong on the same line or the next.
var httpdLine = regexp.MustCompile(`(?:AH\d+: )?Syntax error on line (\d+) of (\S+?):(.*)$`)

func httpdComplaint(output string) (Complaint, bool) {
	lines := strings.Split(output, "\n")
	for i, line := range lines {
		// Of included files the innermost is named last.
		m := httpdLine.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		if rest := strings.TrimSpace(m[3]); strings.Contains(rest, "Syntax error on line ") {
			if inner, ok := httpdComplaint(rest + "\n" + strings.Join(lines[i+1:], "\n")); ok {
				return inner, true
			}
		}
		n, _ := strconv.Atoi(m[1])
		c := Complaint{strings.TrimSpace(m[3]), m[2], n}
		if c.What == "" && i+1 < len(lines) {
			c.What = strings.TrimSpace(lines[i+1])
		}
		return c, true
	}
	for _, line := range lines {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "AH"); ok {
			if _, what, ok := strings.Cut(text, ": "); ok && !strings.Contains(what, "ServerName") {
				return Complaint{What: what}, true
			}
		}
	}
	return Complaint{}, false
}
