package render

import (
	"fmt"
	"strconv"
	"strings"

	"northstake/core/declare"
)

// part writes the locations of a part. One that sends an answer of its own does so before
// nginx has looked who asks, so that of a guarded one stands in a location that is come to
// afterwards.
func (n *nginx) part(i int, p part) {
	answers := p.does == moved || p.does == says
	body := func() { n.does(i, p) }
	if answers && p.guarded() {
		inner := fmt.Sprintf("@part%d", i)
		body = func() { n.after(inner, p) }
		n.location(p, inner, func() { n.does(i, p) })
	}
	switch {
	case p.exact:
		n.location(p, "= "+n.value(p.url), func() { n.guards(p); body() })
	case p.url == "/":
		n.location(p, "/", func() { n.guards(p); body() })
	case p.does == files:
		leads := func() { n.line(n.of(p, ""), "        return 301 %s;", n.with(p.url+"/", "$is_args$args")) }
		if p.guarded() {
			n.location(p, "= "+n.value(p.url), func() { n.guards(p); n.after(fmt.Sprintf("@slash%d", i), p) })
			n.location(p, fmt.Sprintf("@slash%d", i), func() { n.headers(p, files); leads() })
		} else {
			n.location(p, "= "+n.value(p.url), leads)
		}
		n.location(p, "^~ "+n.value(p.url+"/"), func() { n.guards(p); body() })
	default:
		for _, m := range []string{"= " + n.value(p.url), "^~ " + n.value(p.url+"/")} {
			n.location(p, m, func() { n.guards(p); n.below(i, p, m, body) })
		}
	}
}

// after goes on in another location when it is known who asks.
func (n *nginx) after(inner string, p part) {
	n.line(n.of(p, ""), "        root /nonexistent;")
	n.line(n.of(p, ""), "        try_files /northstake %s;", inner)
}

func (n *nginx) location(p part, match string, body func()) {
	n.line(n.of(p, ""), "    location %s {", match)
	body()
	n.line(n.of(p, ""), "    }")
}

// guards are who may see a part, and how large a body may be.
func (n *nginx) guards(p part) {
	for _, net := range p.notFrom {
		n.line(n.of(p, "not_from"), "        deny %s;", net)
	}
	for _, net := range p.from {
		n.line(n.of(p, "from"), "        allow %s;", net)
	}
	if p.from != nil {
		n.line(n.of(p, "from"), "        deny all;")
	}
	if p.asks() {
		n.line(n.of(p, "passwords"), "        auth_basic %s;", n.q(n.writer.site))
		n.line(n.of(p, "passwords"), "        auth_basic_user_file %s;", n.q(n.accountsOf(p, ":")))
	}
	if p.body != defaultBody {
		n.line(n.of(p, "largest_body"), "        client_max_body_size %d;", p.body)
	}
}

// below writes a part that passes on, whose prefix is dropped by what stands behind the
// service; all others are alike at the path and below it.
func (n *nginx) below(i int, p part, match string, body func()) {
	if p.does != passes || p.what.PassedPath != declare.Shortened {
		body()
		return
	}
	n.passes(i, p, "/")
}

func (n *nginx) does(i int, p part) {
	switch p.does {
	case files:
		n.files(i, p)
	case moved:
		n.headers(p, moved)
		n.moved(p)
	case says:
		n.headers(p, says)
		n.line(n.of(p, "does"), "        types { }")
		n.line(n.of(p, "does"), "        default_type %s;", n.value(p.textType()))
		n.line(n.of(p, "does"), "        charset off;")
		n.line(n.of(p, "does"), "        return %d %s;", p.status(), n.value(*p.what.Says))
	case passes:
		n.passes(i, p, "")
	case closes:
		n.line(n.of(p, "does"), "        return 444;")
	}
}

func (n *nginx) headers(p part, does handling) {
	for _, h := range p.headers {
		at := n.of(p, "header "+h.name)
		if does == passes {
			n.line(at, "        proxy_hide_header %s;", h.name)
		}
		if h.value != "" {
			n.line(at, "        add_header %s %s always;", h.name, n.value(h.value))
		}
	}
}

func (n *nginx) files(i int, p part) {
	n.headers(p, files)
	n.keeps(i, p)
	if !p.front(n.s) { // where that answers, nginx refuses by itself what is more than reading a file
		takes := "$request_method !~ ^(GET|HEAD)$"
		if p.startsPHP(n.s) { // its index file may take more than it gives; one that does not is refused when nginx comes to it
			asked := n.named("asked" + strconv.Itoa(i))
			n.line(n.of(p, "index"), `        set $%s "$request_method $uri";`, asked)
			takes = "$" + asked + ` !~ "^((GET|HEAD) |POST .*/$)"`
		}
		n.line(n.of(p, ""), "        if (%s) {", takes)
		n.line(n.of(p, ""), "            return 405;")
		n.line(n.of(p, ""), "        }")
	}
	if !n.site.ServeDotFiles {
		n.line(n.at("serve_dot_files"), `        if ($uri ~ "/\.(?!well-known(/|$))") {`)
		n.line(n.at("serve_dot_files"), "            return 404;")
		n.line(n.at("serve_dot_files"), "        }")
	}
	n.line(n.of(p, ""), `        if ($request_uri ~* "^[^?]*%%2f") {`)
	n.line(n.of(p, ""), "            return 404;")
	n.line(n.of(p, ""), "        }")
	switch {
	case p.base == "/":
		if p.root != n.s.Root {
			n.line(n.of(p, "does"), "        root %s;", n.value(p.root))
		}
	case p.exact:
		n.line(n.of(p, "does"), "        alias %s;", n.value(p.root+p.below()))
	default:
		n.line(n.of(p, "does"), "        alias %s;", n.value(p.root+p.below()+"/"))
	}
	last := ""
	if p.otherwise != "" {
		at := n.of(p, "otherwise")
		if !p.lists {
			last = " " + n.value(p.page())
		}
		if p.front(n.s) {
			n.line(at, "        try_files $uri $uri/ @front%d;", i)
		} else {
			n.line(at, "        try_files $uri $uri/ @page%d;", i)
		}
	}
	n.line(n.of(p, "index"), "        index %s%s;", n.words(p.index), last)
	if p.lists {
		n.line(n.of(p, "directory_listing"), "        autoindex on;")
	}
	n.php(i, p)
	n.raw(p, "        ")
}

// keeps says how long browsers keep a file.
func (n *nginx) keeps(i int, p part) {
	if len(p.keeps) > 0 {
		n.line(n.of(p, ""), "        add_header Cache-Control $%s;", n.named("keep"+strconv.Itoa(i)))
	}
}

// php has the PHP files of a part run, those that are there, and the one that answers for the rest.
func (n *nginx) php(i int, p part) {
	if n.s.PHP == "" || p.exact {
		return
	}
	at := n.at("php")
	n.line(at, `        location ~ "\.php$" {`)
	if !n.site.ServeDotFiles {
		n.line(at, `            if ($uri ~ "/\.(?!well-known(/|$))") {`)
		n.line(at, "                return 404;")
		n.line(at, "            }")
	}
	n.line(at, `            if ($request_uri ~* "^[^?]*%%2f") {`)
	n.line(at, "                return 404;")
	n.line(at, "            }")
	switch {
	case p.front(n.s):
		n.line(n.of(p, "otherwise"), "            try_files $uri @front%d;", i)
	case p.otherwise != "":
		n.line(n.of(p, "otherwise"), "            try_files $uri @page%d;", i)
	default:
		n.line(at, "            if (!-f $request_filename) {")
		n.line(at, "                return 404;")
		n.line(at, "            }")
	}
	n.line(at, "            include fastcgi_params;")
	n.line(at, "            fastcgi_param SCRIPT_FILENAME $request_filename;")
	n.runs("            ")
	n.line(at, "        }")
}

// moved sends visitors on. What is kept of the path is taken from the request as it was
// written, without slashes in front, so that it can lead to no other host.
func (n *nginx) moved(p part) {
	query := ""
	if p.keepsQuery() {
		query = "$is_args$args"
	}
	to, before := p.target()
	if p.keepsRest() {
		n.line(n.of(p, "does"), "        if ($request_uri ~ %s) {", n.quoteExpression("^"+literal(strings.TrimSuffix(p.base, "/"))+`/[/\\]*([^?]*)`))
		n.line(n.of(p, "does"), "            return %d %s;", p.status(), n.with(before, "$1"+query))
		n.line(n.of(p, "does"), "        }")
	}
	n.line(n.of(p, "does"), "        return %d %s;", p.status(), n.with(to, query))
	n.raw(p, "        ")
}

func (n *nginx) passes(i int, p part, uri string) {
	at := n.of(p, "does")
	n.headers(p, passes)
	n.line(at, "        proxy_pass http://%s%s;", n.named("to"+strconv.Itoa(i)), uri)
	n.line(at, "        gzip off;")
	n.line(at, "        charset off;")
	n.line(at, "        proxy_redirect off;")
	n.line(at, "        proxy_http_version 1.1;")
	n.line(at, "        proxy_set_header Host $http_host;")
	n.line(at, "        proxy_set_header Upgrade $http_upgrade;")
	n.line(at, "        proxy_set_header Connection $%s;", n.named("connection"))
	for _, h := range notTold {
		n.line(at, "        proxy_set_header %s \"\";", h)
	}
	for _, told := range [][2]string{{"X-Forwarded-For", "$remote_addr"}, {"X-Forwarded-Host", "$http_host"}, {"X-Forwarded-Proto", "$scheme"}} {
		value := told[1]
		if !p.tells() {
			value = `""`
		}
		n.line(at, "        proxy_set_header %s %s;", told[0], value)
	}
	connect, answer := p.waits()
	n.line(at, "        proxy_connect_timeout %ds;", connect)
	n.line(at, "        proxy_read_timeout %ds;", answer)
	n.line(at, "        proxy_buffering off;")
	n.line(at, "        proxy_request_buffering off;")
	n.raw(p, "        ")
}
