package render

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"northstake/core/declare"
)

// longestHashed is the longest name that fits nginx's default
// server_names_hash_bucket_size of 64 bytes (ngx_hash.h: a pointer, the length
// and the name, aligned).
const longestHashed = 44

// serverName writes a name so that nginx takes it whatever its length: a long
// one as an expression, which no hash holds.
func serverName(n string) (string, error) {
	if len(n) <= longestHashed {
		return Quote(n)
	}
	if rest, ok := strings.CutPrefix(n, "*."); ok {
		return Quote("~^.+[.]" + strings.ReplaceAll(regexp.QuoteMeta(rest), `\.`, "[.]"))
	}
	return Quote("~^" + strings.ReplaceAll(regexp.QuoteMeta(n), `\.`, "[.]"))
}

var _ = register("nginx", Server{Render: Nginx, Complaint: nginxComplaint})

// Nginx renders a virtual host for nginx (http://nginx.org/en/docs, ngx_http_core_module).
func Nginx(d *declare.Declaration, s Site) (Text, error) {
	site := d.Sites[s.Name]
	w := &writer{d: d, site: s.Name}
	w.line(w.at(), "# Site %s of ground %s. North Stake writes this file.", s.Name, d.Ground.Name)
	w.line(w.at(), "server {")
	for i, port := range site.ListenOn() {
		p := w.at("listen", fmt.Sprint(i))
		w.line(p, "    listen %d;", port)
		if s.IPv6 {
			w.line(p, "    listen [::]:%d;", port)
		}
	}
	var names []string
	for _, n := range site.Names {
		name, err := serverName(n)
		if err != nil {
			return Text{}, err
		}
		names = append(names, name)
	}
	w.line(w.at("names"), "    server_name %s;", strings.Join(names, " "))
	w.line(w.at("root"), "    root %s;", w.q(s.Root))
	w.line(w.at("index"), "    index %s;", w.words(site.Index))
	w.line(w.at(), "    location / {")
	w.line(w.at(), "        try_files $uri $uri/ =404;")
	w.line(w.at(), "    }")
	for _, u := range pathsOf(site) {
		p := site.Paths[u]
		w.line(w.at("path", u), "    location = %s {", w.q(u))
		w.line(w.at("path", u), "        return 301 %s$is_args$args\";", strings.TrimSuffix(w.q(u+"/"), `"`))
		w.line(w.at("path", u), "    }")
		w.line(w.at("path", u), "    location %s {", w.q(u+"/"))
		w.line(w.at("path", u, "root"), "        alias %s;", w.q(p.Root+"/"))
		w.line(w.at("path", u, "index"), "        index %s;", w.words(p.Index))
		w.line(w.at("path", u), "    }")
	}
	w.line(w.at(), "}")
	mark := w.mark()
	w.line(w.at(), "# By this the server says on the host itself which text of the site it has loaded.")
	w.line(w.at(), "server {")
	for i, port := range site.ListenOn() {
		w.line(w.at("listen", fmt.Sprint(i)), "    listen %d;", port)
	}
	w.line(w.at(), "    server_name %s;", MarkName(s.Name))
	w.line(w.at(), "    access_log off;")
	w.line(w.at(), "    default_type text/plain;")
	w.line(w.at(), "    if ($remote_addr != 127.0.0.1) {")
	w.line(w.at(), "        return 404;")
	w.line(w.at(), "    }")
	w.line(w.at(), "    return 200 %s;", w.q(mark))
	w.line(w.at(), "}")
	return w.text()
}

// nginxLine is a line by which nginx refuses a configuration: "[emerg] 12#12: what
// is wrong in /file:3", with its name or the time in front.
var nginxLine = regexp.MustCompile(`\[(?:emerg|crit|alert)\] (?:\d+#\d+: )?(.*?)(?: in (/\S+):(\d+))?\s*$`)

func nginxComplaint(output string) (Complaint, bool) {
	for _, line := range strings.Split(output, "\n") {
		if m := nginxLine.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
			n, _ := strconv.Atoi(m[3])
			return Complaint{m[1], m[2], n}, true
		}
	}
	return Complaint{}, false
}
