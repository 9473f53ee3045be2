package walk

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"northstake/e2e/stage"
)

// walkModel is what a walk declares, and what it knows to be somebody else's on the hosts.
type walkModel struct {
	trees    map[string]map[string]string // content: root, path, text
	files    map[string]walkFile
	portions map[string]string // file, text of the portion
	dirs     map[string]string // path, mode
	links    map[string]string
	accounts map[string]string // name, shell
	ports    map[string]bool
	aside    string              // a line that makes the sites' files differ
	owners   map[string]string   // of roots, where it is not root
	over     map[string]walkFile // by path, what the first host's own kit says of a file instead
	rest     bool                // what nobody declared is removed from walkRest
	second   bool                // site ex has a second name, and another port
	version  string              // of tide-tables, from a source of its own
	tree     bool                // whether the package tree is installed, or gone
	more     string              // tables of the first host's own
	ebb      bool                // site tides is called ebb
	other    bool                // the first host's sites are served by its other server
	closed   string              // the page that visitors of site ex get in place of it, "" where it is open
	from     string              // a network from which alone port 5432 can be reached, "" for none

	listed string // text of a file that keeps an access list and an attribute of somebody's
	noted  bool   // whether it has them
	moored string // what a path of a site answers that only its kit has, "" for no such path

	sources map[string]string            // by family, where its source of packages is
	theirs  map[string]map[string]string // host, path, text: what nobody declared
}

// walkRest is a root from which what nobody declared is removed, where the model says so.
const walkRest = "/srv/leaflets/ex"

type walkFile struct{ text, mode string }

// walkRoots are the roots of what is published, and the table that declares each: roots
// and sites whose names nearly collide, and paths below paths.
var walkRoots = map[string]string{
	"/srv/www/ex":      "site.ex",
	"/srv/www/ex.org":  "site.ex-org",
	"/srv/www/ex-b":    "site.ex.path.\"/b\"",
	"/srv/www/ex-b-c":  "site.ex.path.\"/b/c\"",
	"/srv/www/tides":   "site.tides",
	"/srv/leaflets/ex": "kit.base.content.\"/srv/leaflets/ex\"",
}

func newWalkModel(g *stage.Ground, random *rand.Rand) *walkModel {
	m := &walkModel{trees: map[string]map[string]string{}, files: map[string]walkFile{}, portions: map[string]string{}, dirs: map[string]string{}, links: map[string]string{},
		accounts: map[string]string{}, ports: map[string]bool{"8000-8002/tcp": true}, owners: map[string]string{}, over: map[string]walkFile{}, version: "1.0", listed: "tide = \"listed\"\n", moored: stage.Page("moored"), theirs: map[string]map[string]string{}}
	for _, h := range g.Hosts {
		m.theirs[h] = map[string]string{}
	}
	real := realFiles(200)
	for _, root := range slices.Sorted(maps.Keys(walkRoots)) {
		tree := map[string]string{"index.html": stage.Page(root)}
		for i := range 3 + random.IntN(10) {
			tree[oddName(random, i)] = strings.Repeat(string(rune('a'+random.IntN(26))), sizes[random.IntN(len(sizes))])
		}
		m.trees[root] = tree
	}
	maps.Copy(m.trees["/srv/www/tides"], real)
	for i := range 3 {
		m.files[fmt.Sprintf("/etc/harbour/%c.conf", 'a'+i)] = walkFile{fmt.Sprintf("tide = %d\n", random.IntN(1000)), []string{"0644", "0640", "0600"}[i]}
		m.dirs[fmt.Sprintf("/srv/quay%d", i)] = []string{"0755", "0750", "0775"}[i]
		m.links[fmt.Sprintf("/srv/now%d", i)] = fmt.Sprintf("/srv/quay%d", i)
	}
	m.over["/etc/harbour/b.conf"] = walkFile{"tide = \"mine\"\n", "0604"}
	m.owners["/srv/www/ex-b"] = "tides"
	m.portions["/etc/harbour.list"] = "pier 9\n"
	m.accounts["tides"], m.accounts["tides2"] = "/usr/sbin/nologin", "/bin/sh"
	return m
}

// walkListed is the file of the model's listed.
const walkListed = "/etc/harbour/listed.conf"

// sizes are around every rounding.
var sizes = []int{0, 1, 999, 1000, 1001, 9949, 9950, 98_400, 99_999, 100_000}

// oddName is a name of content as real trees have them.
func oddName(random *rand.Rand, i int) string {
	names := []string{"page%d.html", "a dir/with spaces %d.txt", ".well-known/security%d.txt", ".hidden%d", "deep/er/and/deeper/f%d", "ünïcode-%d.html", "UPPER%d.HTML", "dash--%d", "percent%%25-%d", "quote'%d", "node_modules/x/index%d.js"}
	return fmt.Sprintf(names[random.IntN(len(names))], i)
}

// realFiles are some files of the console's packages.
func realFiles(n int) map[string]string {
	out := map[string]string{}
	from := filepath.Join(stage.Root, "web", "node_modules")
	filepath.WalkDir(from, func(p string, e fs.DirEntry, err error) error {
		if err != nil || len(out) >= n {
			return fs.SkipAll
		}
		if b, err := os.ReadFile(p); err == nil && e.Type().IsRegular() && len(b) < 200_000 {
			rel, _ := filepath.Rel(from, p)
			out["lib/"+rel] = string(b)
		}
		return nil
	})
	return out
}

// write writes the declaration.
func (m *walkModel) write(g *stage.Ground) {
	g.T.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "[ground]\nname = %q\n[reach]\nuser = \"keeper\"\nkey_secret = \"keeper\"\nsudo = true\n", g.Name)
	for _, h := range g.Hosts {
		kits := `"base"`
		if h == g.Hosts[0] {
			kits += `, "over"`
		}
		fmt.Fprintf(&b, "[host.%s]\naddress = %q\nkits = [%s]\n", h, g.Address(h), kits)
	}
	for _, family := range slices.Sorted(maps.Keys(m.sources)) {
		fmt.Fprintf(&b, "[kit.base.source.ferries-%s]\nfamily = %[1]q\nurl = %q\nkey = \"files/ferries.asc\"\n", family, m.sources[family])
	}
	if m.version != "" {
		fmt.Fprintf(&b, "[kit.base.package.tide-tables]\nversion = %q\n", m.version)
	}
	fmt.Fprintf(&b, "[kit.over.package.tree]\nis = %q\n", map[bool]string{true: "installed", false: "gone"}[m.tree])
	for _, p := range slices.Sorted(maps.Keys(m.over)) {
		fmt.Fprintf(&b, "[kit.over.file.%q]\ntext = %q\nmode = %q\nrestart = [\"cron\"]\n", p, m.over[p].text, m.over[p].mode)
	}
	b.WriteString(strings.ReplaceAll(m.more, "%HOST", "host."+g.Hosts[0]))
	fmt.Fprintf(&b, "[kit.base]\ninbound = \"declared\"\nmay_restart = true\nports = [%s]\nservice = { cron = { running = true, at_boot = true, names = { redhat = \"crond\" } } }\n[kit.base.package.cron]\nnames = { redhat = \"cronie\" }\n", quoted(slices.Sorted(maps.Keys(m.ports))))
	if m.from != "" {
		fmt.Fprintf(&b, "[kit.base.port.\"5432/tcp\"]\nfrom = [%q]\n", m.from)
	}
	for _, name := range slices.Sorted(maps.Keys(m.accounts)) {
		fmt.Fprintf(&b, "[kit.base.account.%s]\nshell = %q\n", name, m.accounts[name])
	}
	for _, p := range slices.Sorted(maps.Keys(m.files)) {
		fmt.Fprintf(&b, "[kit.base.file.%q]\ntext = %q\nmode = %q\n", p, m.files[p].text, m.files[p].mode)
	}
	fmt.Fprintf(&b, "[kit.base.file.%q]\ntext = %q\nmode = \"0640\"\n", walkListed, m.listed)
	for _, p := range slices.Sorted(maps.Keys(m.portions)) {
		fmt.Fprintf(&b, "[kit.base.file.%q]\ntext = %q\nportion = \"piers\"\n", p, m.portions[p])
	}
	for _, p := range slices.Sorted(maps.Keys(m.dirs)) {
		fmt.Fprintf(&b, "[kit.base.directory.%q]\nmode = %q\n", p, m.dirs[p])
	}
	for _, p := range slices.Sorted(maps.Keys(m.links)) {
		fmt.Fprintf(&b, "[kit.base.link.%q]\npoints_to = %q\n", p, m.links[p])
	}
	if err := os.RemoveAll(filepath.Join(g.Dir, "trees")); err != nil {
		g.T.Fatal(err)
	}
	kits := ""
	if m.moored != "" {
		g.Beside("trees/moored/index.html", m.moored)
		b.WriteString("[kit.org.site.path.\"/moored\"]\nroot = \"/srv/moored\"\nindex = [\"index.html\"]\ncontent = { dir = \"trees/moored\" }\n")
		kits = "kits = [\"org\"]\n"
	}
	for _, site := range [][2]string{{"ex", m.server()}, {"ex-org", m.server()}, {"tides", "httpd"}} {
		table := "site." + site[0]
		if !slices.ContainsFunc(slices.Collect(maps.Keys(m.trees)), func(r string) bool { return walkRoots[r] == table }) {
			continue
		}
		on, listen, names := g.Hosts[0], "80", fmt.Sprintf("%q", site[0]+".saltmarsh.test")
		if site[0] == "tides" {
			on = g.Hosts[1]
		}
		if site[0] == "ex" && m.second {
			listen, names = "80, 8081", names+`, "www.ex.saltmarsh.test"`
		}
		if site[0] == "ex-org" {
			fmt.Fprintf(&b, "[site.ex-org]\n%s", kits)
		} else {
			fmt.Fprintf(&b, "[site.%s]\n", site[0])
		}
		if site[0] == "ex" && m.closed != "" {
			fmt.Fprintf(&b, "closed = %q\n", m.closed)
		}
		fmt.Fprintf(&b, "on = [%q]\nserver = %q\nnames = [%s]\nlisten = [%s]\nindex = [\"index.html\", %q]\n", on, site[1], names, listen, "other"+m.aside+".html")
	}
	for _, r := range slices.Sorted(maps.Keys(m.trees)) {
		table, dir := walkRoots[r], "trees"+strings.ReplaceAll(r, "/", "_")
		for p, text := range m.trees[r] {
			g.Beside(dir+"/"+p, text)
		}
		switch {
		case strings.HasPrefix(table, "kit."):
			fmt.Fprintf(&b, "[%s]\ndir = %q\nundeclared_files = %q\n", table, dir, map[bool]string{true: "removed", false: "kept"}[m.rest])
		case strings.Contains(table, ".path."):
			fmt.Fprintf(&b, "[%s]\nroot = %q\ncontent = { archive = %q, folder = \"tree\", owner = %q }\n", table, r, dir+".tar.gz", m.owner(r))
			stage.Shell(g.T, g.Dir, fmt.Sprintf("rm -f %[1]s.tar.gz; tar --transform 's,^%[1]s,tree,' -czf %[1]s.tar.gz %[1]s", dir))
		default:
			fmt.Fprintf(&b, "[%s.content]\ndir = %q\nowner = %q\nleft_alone = [\"uploads\"]\n[[%[1]s.probe]]\npath = \"/\"\ncontains = \"Next sailing\"\n", table, dir, m.owner(r))
		}
	}
	text := b.String()
	for r, table := range walkRoots { // a root is a key of the site's own table, before others begin
		if _, ok := m.trees[r]; ok && strings.Count(table, ".") == 1 {
			text = strings.Replace(text, "["+table+"]\n", "["+table+"]\nroot = \""+r+"\"\n", 1)
		}
	}
	if m.ebb {
		text = strings.ReplaceAll(text, "[site.tides", "[site.ebb")
	}
	stage.Write(g.T, filepath.Join(g.Dir, "ground.toml"), text)
}

// owner is who owns what is published at a root.
func (m *walkModel) owner(r string) string {
	if o := m.owners[r]; o != "" {
		return o
	}
	return "root"
}

// server is what serves the first host's sites.
func (m *walkModel) server() string {
	if m.other {
		return "httpd"
	}
	return "nginx"
}

// tides is what site tides is called.
func (m *walkModel) tides() string {
	if m.ebb {
		return "ebb"
	}
	return "tides"
}

func quoted(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fmt.Sprintf("%q", s)
	}
	return strings.Join(out, ", ")
}

func shaOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// on says which hosts get what is published at a root.
func (m *walkModel) on(g *stage.Ground, r string) []string {
	switch table := walkRoots[r]; {
	case strings.HasPrefix(table, "kit."):
		return g.Hosts
	case strings.HasPrefix(table, "site.tides"):
		return g.Hosts[1:2]
	}
	return g.Hosts[:1]
}

// wants are the lines of an independent look that have to be there on a host when all is as
// declared.
func (m *walkModel) wants(g *stage.Ground, host string) map[string]string {
	out := map[string]string{}
	for r, tree := range m.trees {
		if !slices.Contains(m.on(g, r), host) {
			continue
		}
		owner := m.owner(r)
		out["path "+r] = fmt.Sprintf("d 755 %s %[1]s ", owner)
		for p, text := range tree {
			out["path "+r+"/"+p], out["sum "+r+"/"+p] = fmt.Sprintf("f 644 %s %[1]s ", owner), shaOf(text)
		}
	}
	files := maps.Clone(m.files)
	if host == g.Hosts[0] {
		maps.Copy(files, m.over)
	}
	for p, f := range files {
		out["path "+p], out["sum "+p] = "f "+strings.TrimLeft(f.mode, "0")+" root root ", shaOf(f.text)
	}
	out["path "+walkListed], out["sum "+walkListed] = "f 640 root root ", shaOf(m.listed)
	if m.noted {
		out["acl "+walkListed], out["attr "+walkListed] = "user::rw- user:daemon:r-- group::r-- mask::r-- other::---", `user.tide="ebb"`
	}
	for p, mode := range m.dirs {
		out["path "+p] = "d " + strings.TrimPrefix(mode, "0") + " root root "
	}
	for p, to := range m.links {
		out["path "+p] = "l 777 root root " + to
	}
	for p, text := range m.theirs[host] {
		out["sum "+p], out["path "+p], out["time "+p] = shaOf(text), "f 640 keeper root ", "2020-02-02 00:00"
		out["acl "+p], out["attr "+p] = "user::rw- user:daemon:r-- group::r-- mask::r-- other::---", `user.tide="ebb"`
	}
	return out
}
