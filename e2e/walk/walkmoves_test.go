package walk

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"syscall"
	"time"

	"northstake/core/plan"
	"northstake/e2e/stage"
	"northstake/service/contract"
)

//go:embed look.sh
var lookScript string

// walk is a walk under way. Said is what the present move does.
type walk struct {
	g      *stage.Ground
	model  *walkModel
	random *rand.Rand
	said   []string

	differences []string // of what had shifted when drift was last asked
}

func (w *walk) say(format string, args ...any) { w.said = append(w.said, fmt.Sprintf(format, args...)) }

// pick chooses one of some keys.
func pick[V any](w *walk, m map[string]V) string {
	keys := slices.Sorted(maps.Keys(m))
	return keys[w.random.IntN(len(keys))]
}

// look is how a host stands by its own tools.
func (w *walk) look(host string) (map[string]string, error) {
	out, err := stage.Lab().Shell(context.Background(), host, "set -- /srv /etc/harbour /etc/harbour.list /etc/nginx /etc/apache2 /etc/httpd /etc/systemd/system /etc/northstake /var/www /etc/apt/sources.list.d /etc/apt/keyrings /etc/yum.repos.d /etc/pki/rpm-gpg\n"+lookScript)
	if err != nil {
		return nil, err
	}
	lines := map[string]string{}
	for _, line := range strings.Split(out, "\n") {
		if key, value, ok := strings.Cut(line, "\t"); ok {
			lines[key] = value
		}
	}
	return lines, nil
}

func (w *walk) looks() (map[string]map[string]string, error) {
	out := map[string]map[string]string{}
	for _, h := range w.g.Hosts {
		var err error
		if out[h], err = w.look(h); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// differs lists the keys of two looks that differ.
func differs(a, b map[string]string) []string {
	var out []string
	for k, v := range a {
		if b[k] != v && !strings.HasSuffix(k, ".service.d") { // a directory that an edit made may stay, empty
			out = append(out, fmt.Sprintf("%s: %q, then %q", k, v, b[k]))
		}
	}
	for k, v := range b {
		if _, ok := a[k]; !ok && !strings.HasSuffix(k, ".service.d") {
			out = append(out, fmt.Sprintf("%s: nothing, then %q", k, v))
		}
	}
	slices.Sort(out)
	return out
}

// ns runs the client, which has to end with one of the given statuses.
func (w *walk) ns(statuses []int, args ...string) (string, error) {
	out, errs, got := w.g.Run(args...)
	if !slices.Contains(statuses, got) {
		return out, fmt.Errorf("northstake %s ended with %d: %s%s", strings.Join(args, " "), got, faultOf(out), errs)
	}
	return out, nil
}

// faultOf is what went wrong in a run, or what is in a plan's way, that a command prints as JSON, and
// otherwise the end of what it prints.
func faultOf(out string) string {
	var p contract.Plan
	if err := json.Unmarshal([]byte(out), &p); err == nil {
		said := p.Error
		for _, h := range p.Hosts {
			for _, b := range h.Blockers {
				said += fmt.Sprintf("%s: %s: %s\n", b.Address, b.What, b.Fix)
			}
			if h.Unread != "" || len(h.NotRead) > 0 {
				said += fmt.Sprintf("%s: %s %v\n", h.Name, h.Unread, h.NotRead)
			}
		}
		if said != "" {
			return said
		}
	}
	var r contract.Run
	if json.Unmarshal([]byte(out), &r) != nil || len(r.Hosts) == 0 {
		return tail(out, 4000)
	}
	var b strings.Builder
	for _, h := range r.Hosts {
		fmt.Fprintf(&b, "%s %s %+v %v\n", h.Place, h.State, h.Fault, h.Notes)
		for _, s := range h.Steps {
			fmt.Fprintf(&b, "  %d %s, %s %v\n", s.Number, s.Text, s.State, s.Said)
		}
	}
	return b.String()
}

func tail(s string, n int) string { return s[max(0, len(s)-n):] }

func (w *walk) plan(statuses []int, more ...string) (p contract.Plan, err error) {
	out, err := w.ns(statuses, append([]string{"plan", w.g.Name, "--json"}, more...)...)
	if err != nil {
		return p, err
	}
	return p, json.Unmarshal([]byte(out), &p)
}

// asDeclared says what is not as the model has it, by an independent look.
func (w *walk) asDeclared() error {
	for _, h := range w.g.Hosts {
		seen, err := w.look(h)
		if err != nil {
			return err
		}
		var wrong []string
		for k, v := range w.model.wants(w.g, h) {
			if seen[k] != v {
				wrong = append(wrong, fmt.Sprintf("%s is %q, want %q", k, seen[k], v))
			}
		}
		slices.Sort(wrong)
		if len(wrong) > 0 {
			return fmt.Errorf("on %s:\n%s", h, strings.Join(wrong[:min(len(wrong), 12)], "\n"))
		}
	}
	return w.answers()
}

// answers fetches every site as a visitor does.
func (w *walk) answers() error {
	for r, table := range walkRoots {
		tree, declared := w.model.trees[r]
		site, path, _ := strings.Cut(strings.TrimPrefix(table, "site."), ".path.")
		if !declared || strings.HasPrefix(table, "kit.") {
			continue
		}
		if site == "ex-org" && w.model.moored != "" {
			if err := answersSoon("http://"+w.g.Address(w.g.Hosts[0])+"/moored/", "ex-org.saltmarsh.test", 200, w.model.moored); err != nil {
				return err
			}
		}
		names, ports, status, want := []string{site}, []string{""}, 200, tree["index.html"]
		if site == "ex" && w.model.closed != "" {
			status, want = 503, w.model.closed
		}
		if site == "ex" && w.model.second {
			names, ports = append(names, "www.ex"), append(ports, ":8081")
		}
		for _, name := range names {
			for _, port := range ports {
				url := "http://" + w.g.Address(w.model.on(w.g, r)[0]) + port + strings.Trim(path, `"`) + "/"
				if err := answersSoon(url, name+".saltmarsh.test", status, want); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// answersSoon says what a URL answers else than a text with a status, by a name, within two seconds.
func answersSoon(url, name string, status int, want string) (failed error) {
	for range 40 {
		got, body, err := stage.Get(url, name)
		if failed = err; err == nil && (got != status || body != want) {
			failed = fmt.Errorf("%s, %s: answers %d: %s", name, url, got, body[:min(len(body), 200)])
		}
		if failed == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return failed
}

// attributed says what changed on a host that no step of the plan is about.
func attributed(changes []string, h contract.PlanPlace) []string {
	var out []string
	var about []func(key string) bool
	under := func(p string) {
		about = append(about, func(k string) bool {
			_, path, _ := strings.Cut(k, " ")
			return path == p || strings.HasPrefix(path, p+"/") || strings.HasPrefix(p, path+"/")
		})
	}
	begins := func(words ...string) {
		about = append(about, func(k string) bool {
			return slices.ContainsFunc(words, func(w string) bool { return strings.HasPrefix(k, w) })
		})
	}
	for _, s := range h.Steps {
		for _, a := range s.Addresses() {
			_, local, _ := strings.Cut(a, "/")
			kind, name, _ := strings.Cut(local, "/")
			switch kind {
			case "content", "file", "directory", "link":
				under("/" + name)
			case "site":
				under("/etc/nginx")
				under("/etc/apache2")
				under("/etc/httpd")
				begins("listens ")
			case "service":
				begins("service "+name, "listens ")
				under("/etc/systemd/system")
			case "source":
				under("/etc/apt")
				under("/etc/yum.repos.d")
				under("/etc/pki/rpm-gpg")
			case "package":
				begins("package ", "service ", "listens ", "group ", "account ", "path /etc/", "sum /etc/", "path /var/www", "sum /var/www", "rule ")
			case "firewall", "port":
				begins("rule ", "service northstake", "path /etc/northstake", "sum /etc/northstake", "path /etc/systemd/system", "sum /etc/systemd/system")
			case "account":
				begins("account "+name+"\t", "account "+name+":", "group "+name, "account "+name)
			}
		}
	}
	for _, c := range changes {
		key, _, _ := strings.Cut(c, ": ")
		if !slices.ContainsFunc(about, func(is func(string) bool) bool { return is(key) }) {
			out = append(out, c)
		}
	}
	return out
}

// applyOn plans and applies, and says what does not agree.
func (w *walk) applyOn(more ...string) error {
	w.model.write(w.g)
	if _, err := w.ns([]int{0}, "declare", w.g.Dir); err != nil {
		return err
	}
	p, err := w.plan([]int{0, 1}, more...)
	if err != nil || p.Steps == 0 {
		return err
	}
	before, err := w.looks()
	if err != nil {
		return err
	}
	w.say("plan %d of %d steps", p.Id, p.Steps)
	if _, err := w.ns([]int{0}, w.applying(p)...); err != nil {
		return err
	}
	after, err := w.looks()
	if err != nil {
		return err
	}
	for _, h := range w.g.Hosts {
		i := slices.IndexFunc(p.Hosts, func(ph contract.PlanPlace) bool { return ph.Name == h })
		var ph contract.PlanPlace
		if i >= 0 {
			ph = p.Hosts[i]
		}
		if unnamed := attributed(differs(before[h], after[h]), ph); len(unnamed) > 0 {
			return fmt.Errorf("changed on %s, and not named in the plan:\n%s", h, strings.Join(unnamed[:min(len(unnamed), 12)], "\n"))
		}
	}
	return nil
}

// applying is how a plan is applied, with what it removes named.
func (w *walk) applying(p contract.Plan) []string {
	args := []string{"apply", fmt.Sprint(p.Id), "--ground", w.g.Name, "--yes", "--json"}
	for _, h := range p.Hosts {
		for _, s := range h.Steps {
			if len(s.Removes) > 0 {
				args = append(args, "--removing", s.Address)
				w.say("%s removes %v", s.Address, s.Removes)
			}
			for _, gone := range s.Removes {
				delete(w.model.theirs[h.Name], walkRest+"/"+strings.TrimPrefix(gone, walkRest+"/"))
			}
		}
	}
	return args
}

func (w *walk) apply() error {
	if err := w.applyOn(); err != nil {
		return err
	}
	if p, err := w.plan([]int{0}); err != nil || p.Steps > 0 {
		return errors.Join(err, fmt.Errorf("a second plan has %d steps", p.Steps))
	}
	if err := w.asDeclared(); err != nil || w.model.noted {
		return err
	}
	for _, h := range w.g.Hosts { // somebody lets another account read what is declared
		if _, err := stage.Lab().Shell(context.Background(), h, "setfacl -m u:daemon:r "+walkListed+"; setfattr -n user.tide -v ebb "+walkListed); err != nil {
			return err
		}
	}
	w.model.noted = true
	return w.asDeclared()
}

func (w *walk) applyOne() error {
	host := w.g.Hosts[w.random.IntN(len(w.g.Hosts))]
	w.say("on %s alone", host)
	return w.applyOn("--on", host)
}

// settled looks for drift and finds none.
func (w *walk) settled() error {
	if err := w.apply(); err != nil {
		return err
	}
	_, err := w.shifted(0)
	return err
}

// shifted are the stakes that the drift check names.
func (w *walk) shifted(status int) ([]string, error) {
	out, err := w.ns([]int{status}, "drift", w.g.Name, "--json")
	if err != nil {
		return nil, err
	}
	var s contract.Survey
	if err := json.Unmarshal([]byte(out), &s); err != nil {
		return nil, err
	}
	var names []string
	w.differences = nil
	for _, h := range s.Hosts {
		for _, r := range h.Rows {
			switch r.Standing {
			case plan.Shifted:
				names = append(names, r.Address)
				for _, d := range r.Differences {
					w.differences = append(w.differences, fmt.Sprintf("%s: %s: wanted %s, found %s", r.Address, d.Attribute, d.Wanted, d.Found))
				}
			case plan.Unread:
				return nil, fmt.Errorf("%s could not be read: %s", r.Address, r.Reason)
			}
		}
	}
	slices.Sort(names)
	return names, nil
}

// named says what drift names otherwise than what was edited.
func (w *walk) named(got, want []string) error {
	if slices.Equal(got, want) {
		return nil
	}
	return fmt.Errorf("drift names %v, and what was edited is %v:\n%s", got, want, strings.Join(w.differences, "\n"))
}

// editByHand edits hosts in some of many ways, finds exactly that as drift, and puts it
// back.
func (w *walk) editByHand() error {
	if err := w.apply(); err != nil {
		return err
	}
	before, err := w.looks()
	if err != nil {
		return err
	}
	var want, undone []string
	var undo [][2]string
	stopped, unanswered := map[string]bool{}, map[string]bool{}
	for range 1 + w.random.IntN(4) {
		host := w.g.Hosts[w.random.IntN(len(w.g.Hosts))]
		e := w.handEdit(host)
		var stakes []string
		for _, s := range strings.Fields(e.stakes) {
			stakes = append(stakes, host+"/"+s)
		}
		if slices.ContainsFunc(stakes, func(s string) bool { return slices.Contains(want, s) || slices.Contains(undone, s) }) {
			continue
		}
		// What its visitors are answered by a server that is stopped, nobody can tell.
		stops, visits := strings.HasPrefix(e.script, "systemctl stop "), strings.Contains(e.undo, "elsewhere.conf")
		if stops && unanswered[host] || visits && stopped[host] {
			continue
		}
		stopped[host], unanswered[host] = stopped[host] || stops, unanswered[host] || visits
		w.say("on %s: %s", host, e.script)
		if _, err := stage.Lab().Shell(context.Background(), host, e.script); err != nil {
			return err
		}
		if e.undo == "" {
			want = append(want, stakes...)
		} else {
			undone, undo = append(undone, stakes...), append(undo, [2]string{host, e.undo})
		}
	}
	if len(undo) > 0 { // what North Stake can only find, or does not look at
		all := slices.Sorted(slices.Values(slices.Concat(want, undone)))
		got, err := w.shifted(map[bool]int{true: 1, false: 0}[len(all) > 0])
		if err != nil {
			return err
		}
		if err := w.named(got, all); err != nil {
			return err
		}
		for _, u := range slices.Backward(undo) { // one may have kept what another had done before
			if _, err := stage.Lab().Shell(context.Background(), u[0], u[1]); err != nil {
				return err
			}
		}
	}
	if len(want) == 0 {
		return nil
	}
	slices.Sort(want)
	got, err := w.shifted(1)
	if err != nil {
		return err
	}
	if err := w.named(got, want); err != nil {
		return err
	}
	if w.random.IntN(3) == 0 { // something else is declared meanwhile: it is due, and stays so
		called, version, other := w.model.ebb, w.model.version, w.model.other
		w.declareAny()
		w.model.ebb, w.model.version = called, version // a site of another name is another site, and a version may be the one that somebody installed
		if slices.ContainsFunc(want, func(s string) bool { return strings.Contains(s, "/service/") || strings.Contains(s, "/server/") }) {
			w.model.other = other // what belongs to a server that serves nothing any more is declared by nobody
		}
		w.model.write(w.g)
		if _, err := w.ns([]int{0}, "declare", w.g.Dir); err != nil {
			return err
		}
		if got, err = w.shifted(1); err != nil {
			return err
		}
		if err := w.named(got, want); err != nil {
			return fmt.Errorf("with something else declared %w", err)
		}
	}
	if _, err := w.ns([]int{0}, "restore", w.g.Name, "--yes", "--json"); err != nil {
		return err
	}
	after, err := w.looks()
	if err != nil {
		return err
	}
	for _, h := range w.g.Hosts {
		if d := differs(before[h], after[h]); len(d) > 0 {
			return fmt.Errorf("after the restore %s is not what it was:\n%s", h, strings.Join(d[:min(len(d), 12)], "\n"))
		}
	}
	if got, err := w.shifted(0); err != nil || len(got) > 0 {
		return errors.Join(err, fmt.Errorf("after the restore drift names %v", got))
	}
	return nil
}

// stale applies a plan after somebody has edited what it is about: nothing is done there.
func (w *walk) stale() error {
	if err := w.apply(); err != nil {
		return err
	}
	m := w.model
	file := pick(w, m.files)
	m.files[file] = walkFile{fmt.Sprintf("tide = %d\n", w.random.Uint64()), m.files[file].mode}
	delete(m.over, file)
	r := pick(w, m.trees)
	m.trees[r]["index.html"] = stage.Page(fmt.Sprint(w.random.Uint64()))
	m.write(w.g)
	if _, err := w.ns([]int{0}, "declare", w.g.Dir); err != nil {
		return err
	}
	p, err := w.plan([]int{1})
	if err != nil {
		return err
	}
	host := w.g.Hosts[w.random.IntN(len(w.g.Hosts))]
	edit := []string{"printf x >> " + sh(file), "rm " + sh(file), "chown keeper " + sh(file)}[w.random.IntN(3)]
	w.say("on %s, after the plan: %s", host, edit)
	if _, err := stage.Lab().Shell(context.Background(), host, edit); err != nil {
		return err
	}
	before, err := w.look(host)
	if err != nil {
		return err
	}
	if _, err := w.ns([]int{2}, w.applying(p)...); err != nil {
		return err
	}
	after, err := w.look(host)
	if err != nil {
		return err
	}
	if d := differs(before, after); len(d) > 0 {
		return fmt.Errorf("%s moved since its plan, and was changed:\n%s", host, strings.Join(d[:min(len(d), 12)], "\n"))
	}
	return w.apply()
}

// others puts what nobody declared beside what is, with owners and modes of its own.
func (w *walk) others() error {
	host := w.g.Hosts[w.random.IntN(len(w.g.Hosts))]
	for range 1 + w.random.IntN(3) {
		dirs := []string{"/srv/theirs"}
		for r := range w.model.trees {
			if slices.Contains(w.model.on(w.g, r), host) {
				dirs = append(dirs, r+"/uploads", r, r+"/deep")
			}
		}
		slices.Sort(dirs)
		p := fmt.Sprintf("%s/their%d", dirs[w.random.IntN(len(dirs))], w.random.IntN(1000))
		text := fmt.Sprintf("theirs %d\n", w.random.Uint64())
		script := fmt.Sprintf("d=$(dirname '%[1]s'); [ -d \"$d\" ] || install -d -m 2775 -o keeper \"$d\"; printf '%%s' '%[2]s' > '%[1]s'; chown keeper '%[1]s'; chmod 0640 '%[1]s'; setfacl -m u:daemon:r '%[1]s'; setfattr -n user.tide -v ebb '%[1]s'; touch -d 2020-02-02 '%[1]s'", p, text)
		w.say("on %s: %s", host, p)
		if _, err := stage.Lab().Shell(context.Background(), host, script); err != nil {
			return err
		}
		w.model.theirs[host][p] = text
	}
	return nil
}

// declareMore changes the declaration.
func (w *walk) declareMore() error {
	for range 1 + w.random.IntN(3) {
		w.declareAny()
	}
	return nil
}

func (w *walk) declareAny() {
	m := w.model
	switch w.random.IntN(20) {
	case 0, 1, 2:
		r := pick(w, m.trees)
		p := pick(w, m.trees[r])
		switch what := w.random.IntN(4); {
		case what == 0:
			p = oddName(w.random, 50+w.random.IntN(40))
			if clashes(m.trees[r], p) {
				return
			}
			fallthrough
		case what == 1:
			m.trees[r][p] += "more\n"
		case p == "index.html":
			m.trees[r][p] = stage.Page(fmt.Sprint(r, w.random.IntN(1000)))
		case what == 2:
			delete(m.trees[r], p)
		default:
			m.trees[r][p] = strings.Repeat("z", sizes[w.random.IntN(len(sizes))])
		}
		w.say("content %s: %s", r, p)
	case 3:
		p := fmt.Sprintf("/etc/harbour/%c.conf", 'a'+w.random.IntN(8))
		m.files[p] = walkFile{fmt.Sprintf("tide = %d\n", w.random.IntN(1000)), []string{"0644", "0640", "0600"}[w.random.IntN(3)]}
		w.say("file %s", p)
	case 4:
		p := fmt.Sprintf("/srv/quay%d", w.random.IntN(8))
		m.dirs[p] = []string{"0755", "0750", "0775"}[w.random.IntN(3)]
		w.say("directory %s", p)
	case 5:
		p := fmt.Sprintf("/srv/now%d", w.random.IntN(8))
		m.links[p] = fmt.Sprintf("/srv/quay%d", w.random.IntN(8))
		w.say("link %s", p)
	case 6:
		m.portions["/etc/harbour.list"] = fmt.Sprintf("pier %d\n", w.random.IntN(100))
		w.say("portion")
	case 7:
		m.ports[fmt.Sprintf("%d/tcp", 9000+w.random.IntN(5))] = true
		m.aside = fmt.Sprint(w.random.IntN(10))
		w.say("a port, and the sites")
	case 8:
		m.version = fmt.Sprintf("1.%d", w.random.IntN(3))
		w.say("tide-tables %s", m.version)
	case 9:
		m.tree = !m.tree
		w.say("package tree: %t", m.tree)
	case 10:
		r := pick(w, m.trees)
		if r != walkRest {
			m.owners[r] = []string{"", "tides"}[w.random.IntN(2)]
			w.say("owner of %s: %s", r, m.owner(r))
		}
	case 11:
		m.second = !m.second
		w.say("a second name and port: %t", m.second)
	case 12:
		m.rest = !m.rest
		w.say("what nobody declared in %s is removed: %t", walkRest, m.rest)
	case 13:
		for _, r := range slices.Sorted(maps.Keys(walkRoots)) {
			if m.trees[r] == nil {
				m.trees[r] = map[string]string{"index.html": stage.Page(r)}
				w.say("content %s again", r)
			}
		}
		m.over[fmt.Sprintf("/etc/harbour/%c.conf", 'a'+w.random.IntN(4))] = walkFile{fmt.Sprintf("tide = %d\n", w.random.IntN(1000)), "0604"}
		w.say("a file of the kit that overrides")
	case 14:
		m.ebb = !m.ebb
		w.say("site tides is called %s", m.tides())
	case 15:
		m.other = !m.other
		w.say("the first host's sites are served by %s", m.server())
	case 16:
		m.from = []string{"", "10.0.0.0/8", "192.0.2.0/24"}[w.random.IntN(3)]
		w.say("port 5432 from %q", m.from)
	case 17:
		m.listed = fmt.Sprintf("tide = %d\n", w.random.IntN(1000))
		w.say("file %s, which has an access list", walkListed)
	case 18:
		if m.moored = ""; w.random.IntN(3) > 0 {
			m.moored = stage.Page(fmt.Sprint("moored ", w.random.IntN(1000)))
		}
		w.say("a path that a kit has: %t", m.moored != "")
	case 19:
		if m.closed == "" {
			m.closed = fmt.Sprintf("<h1>Back at %d</h1>\n$uri {path} %%h\n", w.random.IntN(24))
		} else {
			m.closed = ""
		}
		w.say("site ex is closed: %t", m.closed != "")
	}
}

// clashes says whether a path would lie below a file, or above one.
func clashes(tree map[string]string, p string) bool {
	for have := range tree {
		if strings.HasPrefix(have, p+"/") || strings.HasPrefix(p, have+"/") {
			return true
		}
	}
	return false
}

// takeOut takes something out of the declaration; it stays on the hosts, as a stray.
func (w *walk) takeOut() error {
	if err := w.apply(); err != nil {
		return err
	}
	m, changes, clears := w.model, false, false
	switch w.random.IntN(8) {
	case 0:
		if len(m.files) > 1 {
			p := pick(w, m.files)
			w.say("file %s", p)
			delete(m.files, p)
			delete(m.over, p)
		}
	case 1:
		if len(m.links) > 1 {
			p := pick(w, m.links)
			w.say("link %s", p)
			delete(m.links, p)
		}
	case 2:
		if len(m.dirs) > 1 {
			p := pick(w, m.dirs)
			w.say("directory %s", p)
			delete(m.dirs, p)
		}
	case 3:
		r := []string{walkRest, "/srv/www/ex.org", "/srv/www/ex-b-c"}[w.random.IntN(3)]
		w.say("content %s", r)
		delete(m.trees, r)
		changes = r == "/srv/www/ex-b-c" // it is a path of a site
		clears = r == "/srv/www/ex.org"  // a site of its own: left there, it keeps its server on the others' port
	case 4:
		delete(m.accounts, "tides2")
		w.say("account tides2")
	case 5:
		m.version = ""
		w.say("package tide-tables")
	case 6:
		delete(m.portions, "/etc/harbour.list")
		w.say("portion")
	case 7:
		for p := range m.ports {
			if strings.HasPrefix(p, "9") {
				delete(m.ports, p)
				changes = true
				w.say("port %s", p)
				break
			}
		}
	}
	before, err := w.looks()
	if err != nil {
		return err
	}
	if err := w.apply(); err != nil {
		return err
	}
	after, err := w.looks()
	if err != nil {
		return err
	}
	for _, h := range w.g.Hosts {
		if d := differs(before[h], after[h]); len(d) > 0 && !changes { // what no port is declared for is closed
			return fmt.Errorf("taking it out changed %s:\n%s", h, strings.Join(d[:min(len(d), 12)], "\n"))
		}
	}
	if w.random.IntN(2) == 0 || clears {
		return w.cleared(after)
	}
	return nil
}

// cleared takes away what is not declared any more, and finds that to have gone which the
// plan names, and nothing else.
func (w *walk) cleared(before map[string]map[string]string) error {
	p, err := w.plan([]int{0, 1}, "--clear")
	if err != nil || p.Steps == 0 {
		return err
	}
	for _, h := range p.Hosts {
		for _, s := range h.Steps {
			w.say("on %s %s", h.Name, s.Text)
		}
	}
	if _, err := w.ns([]int{0}, w.applying(p)...); err != nil {
		return err
	}
	after, err := w.looks()
	if err != nil {
		return err
	}
	for _, h := range p.Hosts {
		d := slices.DeleteFunc(differs(before[h.Name], after[h.Name]), func(line string) bool {
			return slices.ContainsFunc(h.Steps, func(s contract.Step) bool { return takesAlong(s, line) })
		})
		if len(d) > 0 {
			return fmt.Errorf("clearing changed on %s what it did not name:\n%s", h.Name, strings.Join(d[:min(len(d), 12)], "\n"))
		}
		for _, s := range h.Steps {
			if _, there := after[h.Name]["path "+s.Name]; there && s.Verb == "take" && strings.HasPrefix(s.Text, "take away") {
				return fmt.Errorf("%s has still %s, after it was to %s", h.Name, s.Name, s.Text)
			}
		}
	}
	if again, err := w.plan([]int{0}, "--clear"); err != nil || again.Steps > 0 {
		return errors.Join(err, fmt.Errorf("there is still to clear: %d steps", again.Steps))
	}
	return w.asDeclared()
}

// takesAlong says whether a difference that a look found is what a step takes away.
func takesAlong(s contract.Step, line string) bool {
	sort, rest, _ := strings.Cut(line, " ")
	name, _, _ := strings.Cut(rest, ": ")
	serves := s.Type == "service" || s.Type == "package" || s.Type == "site"
	switch sort {
	case "package":
		return s.Type == "package" && strings.Contains(s.Text+",", " "+name)
	case "service", "listens":
		return serves
	case "rule":
		return s.Type == "port" || s.Type == "firewall" || serves
	case "account", "group":
		return false
	}
	return strings.HasPrefix(s.Name, name) || strings.Contains(s.Text, name) || s.Type == "source" && strings.Contains(name, "northstake-"+s.Name) ||
		serves && (strings.HasPrefix(name, "/etc/nginx/") || strings.HasPrefix(name, "/etc/apache2/") || strings.HasPrefix(name, "/etc/httpd/") || strings.HasPrefix(name, "/etc/systemd/system/"))
}

// goesBack lets a run fail at its end, and finds the hosts as they were.
func (w *walk) goesBack() error {
	if err := w.apply(); err != nil {
		return err
	}
	before, err := w.looks()
	if err != nil {
		return err
	}
	kept := w.model.clone()
	for range 2 {
		w.declareAny()
	}
	m, failing := w.model, w.g.Hosts
	switch w.random.IntN(4) {
	case 0:
		m.closed = ""
		for _, r := range []string{"/srv/www/ex", "/srv/www/ex.org", "/srv/www/tides"} {
			if m.trees[r] != nil {
				m.trees[r]["index.html"] = "no such words\n" // the probes do not find what they look for
			}
		}
		w.say("probes fail")
	case 1:
		m.version = "9.0"
		w.say("a package cannot be installed")
	case 2:
		failing = w.g.Hosts[:1] // the other one is done
		m.more = "[%HOST.file.\"/etc/systemd/system/harbour-fails.service\"]\ntext = \"[Service]\\nExecStart=/bin/false\\n\"\n[%HOST.service]\nharbour-fails = { running = true }\n"
		w.say("a service cannot start")
	case 3:
		file, service := "/etc/nginx/conf.d/odd.conf", "nginx"
		if m.other {
			file, service = "/etc/apache2/conf-enabled/odd.conf", "apache2"
		}
		m.more = fmt.Sprintf("[kit.over.file.%q]\ntext = \"nonsense;\\n\"\nreload = [%q]\n", file, service)
		failing = w.g.Hosts[:1] // the other one is done
		w.say("a configuration is refused")
	}
	m.write(w.g)
	if _, err := w.ns([]int{0}, "declare", w.g.Dir); err != nil {
		return err
	}
	p, err := w.plan([]int{1})
	if err != nil {
		return err
	}
	if _, err := w.ns([]int{2}, w.applying(p)...); err != nil {
		return err
	}
	for _, h := range w.g.Hosts {
		if !slices.Contains(failing, h) { // what was named went there
			kept.theirs[h] = m.theirs[h]
		}
	}
	w.model = kept
	after, err := w.looks()
	if err != nil {
		return err
	}
	for _, h := range failing {
		d := slices.DeleteFunc(differs(before[h], after[h]), w.packagesOwn)
		if len(d) > 0 {
			return fmt.Errorf("taken back, and %s is not what it was:\n%s", h, strings.Join(d[:min(len(d), 12)], "\n"))
		}
	}
	return w.apply()
}

func (m *walkModel) clone() *walkModel {
	out := *m
	out.trees = map[string]map[string]string{}
	for r, tree := range m.trees {
		out.trees[r] = maps.Clone(tree)
	}
	out.theirs = map[string]map[string]string{}
	for h, files := range m.theirs {
		out.theirs[h] = maps.Clone(files)
	}
	out.owners, out.over, out.accounts = maps.Clone(m.owners), maps.Clone(m.over), maps.Clone(m.accounts)
	out.files, out.portions, out.dirs, out.links, out.ports = maps.Clone(m.files), maps.Clone(m.portions), maps.Clone(m.dirs), maps.Clone(m.links), maps.Clone(m.ports)
	return &out
}

// packagesOwn says that a difference is a group that no account of ours has, and that was not there: scripts
// of packages make such groups, and their removal leaves them (Debian's ssl-cert, which comes with apache2).
func (w *walk) packagesOwn(difference string) bool {
	name, made := strings.CutPrefix(difference, "group ")
	name, _, added := strings.Cut(name, ": nothing, then ")
	return made && added && !strings.HasPrefix(name, "tides")
}

// killed has the rods, a host or the service killed in the middle of a run, which goes on to its end:
// by itself where it was the service, and otherwise when it is resumed, once.
func (w *walk) killed() error {
	if err := w.apply(); err != nil {
		return err
	}
	for range 3 {
		w.declareAny()
	}
	w.model.write(w.g)
	if _, err := w.ns([]int{0}, "declare", w.g.Dir); err != nil {
		return err
	}
	p, err := w.plan([]int{0, 1})
	if err != nil || p.Steps == 0 {
		return err
	}
	what, host := []string{"rods", "rods", "a host", "the service", "the line"}[w.random.IntN(5)], w.g.Hosts[w.random.IntN(len(w.g.Hosts))]
	delay := time.Duration(w.random.IntN(400)) * time.Millisecond
	w.applying(p)
	w.say("plan %d, %s killed after %s", p.Id, what, delay)
	run := w.g.StartRun(p.Id, stage.Confirmed(p)...)
	time.Sleep(delay)
	switch what {
	case "rods":
		for _, h := range w.g.Hosts {
			if _, err := stage.Lab().Shell(context.Background(), h, "pkill -KILL -f '[r]od/[0-9a-f]* serve' || true"); err != nil {
				return err
			}
		}
	case "the line":
		w.say("of %s", host)
		if _, err := stage.Lab().Shell(context.Background(), host, cutLine); err != nil {
			return err
		}
	case "a host":
		w.say("it is %s", host)
		stage.KillHost(w.g, host)
		w.g.On(host, stage.Started)
	case "the service":
		w.g.Service.End(syscall.SIGKILL)
		if err := w.g.Service.Start(); err != nil {
			return err
		}
	}
	r := w.g.Ended(run)
	if what == "the line" {
		w.g.On(w.g.Hosts[0], "while nft list table inet cut >/dev/null 2>&1; do sleep 0.2; done")
		w.g.On(w.g.Hosts[1], "while nft list table inet cut >/dev/null 2>&1; do sleep 0.2; done")
	}
	if r.State != "done" && what != "the service" {
		w.say("resumed")
		status, body := w.g.Post(fmt.Sprintf("/grounds/%s/runs/%d/resume", w.g.Name, run), "{}")
		if status != 202 {
			return fmt.Errorf("the run is %s: %+v, and cannot be carried on with: %s", r.State, r.Hosts, body)
		}
		r = w.g.Ended(run)
	}
	if r.State != "done" {
		return fmt.Errorf("the run ended %s: %+v", r.State, r.Hosts)
	}
	return w.apply()
}

// secretDir is a directory of root's that no declaration names.
const secretDir = "/etc/tide-secrets"

// habits are what a hostile user does to what is published in a tree of his, again and again: PLACE is
// what he is at (QUOTED for Perl), ASIDE a name beside it, SECRET a directory of root's.
var habits = []struct{ name, script string }{
	{"a link to root's directory", inThePlace("ln -s SECRET PLACE")},
	{"a link to root's file", inThePlace("ln -s SECRET/one PLACE")},
	{"a pipe", inThePlace("mkfifo PLACE")},
	{"a file of 8 TB without content", inThePlace("truncate -s 8T PLACE")},
	{"300 directories, one in the other", inThePlace(`mkdir -p PLACE/$(printf 'x/%.0s' $(seq 300))`)},
	{"exchanged with a link in one instant", `#!/usr/bin/perl
chdir "/srv/tide-work"; my ($q, $x) = (QUOTED, "ASIDE");
symlink "SECRET", $x;
while (-e "go") { syscall(316, -100, $q, -100, $x, 2); select undef, undef, undef, rand 0.01; } # renameat2, RENAME_EXCHANGE
syscall(316, -100, $q, -100, $x, 2) if -l $q;
unlink $x;
`},
	{"a lease on it", `#!/usr/bin/perl
chdir "/srv/tide-work"; $SIG{IO} = "IGNORE";
while (-e "go") { if (open my $f, "+<", QUOTED) { fcntl($f, 1024, 1); select undef, undef, undef, 0.3; } select undef, undef, undef, 0.01; } # F_SETLEASE, F_WRLCK
`},
}

// inThePlace is a script that puts something in the place of what is published, and that back, all the time.
func inThePlace(makes string) string {
	return "#!/bin/sh\ncd /srv/tide-work\nwhile [ -e go ]; do mv -T PLACE ASIDE 2>/dev/null && " + makes + "; rm -rf PLACE; mv -T ASIDE PLACE; done\n"
}

// intruder has a user who owns a tree put such things in the way all the time
// while it is published. Runs may fail of it; root's stay as they are, and nothing that a declaration
// says afterwards is held up by it.
func (w *walk) intruder() error {
	if err := w.apply(); err != nil {
		return err
	}
	const r = "/srv/www/ex-b"
	tree := w.model.trees[r]
	host := w.model.on(w.g, r)[0]
	p := pick(w, tree)
	if dir, _, ok := strings.Cut(p, "/"); ok && dir != "deep" && w.random.IntN(2) == 0 { // others have put theirs into deep
		p = dir
	}
	habit := habits[w.random.IntN(len(habits))]
	w.say("on %s, in the place of %s: %s", host, p, habit.name)
	before := w.g.On(host, lookAtSecrets)
	w.g.On(host, "install -d -o tides /srv/tide-work; cat > /usr/local/bin/intrude <<'X'\n"+strings.NewReplacer("PLACE", sh(r+"/"+p), "QUOTED", "'"+strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(r+"/"+p)+"'", "ASIDE", r+"/x", "SECRET", secretDir).Replace(habit.script)+"X\nchmod 755 /usr/local/bin/intrude; su -s /bin/sh tides -c 'touch /srv/tide-work/go; setsid /usr/local/bin/intrude >/dev/null 2>&1 &'")
	for range 3 {
		w.model.trees[r][p0(tree, p)] += "more\n"
		w.model.write(w.g)
		if _, err := w.ns([]int{0}, "declare", w.g.Dir); err != nil {
			return err
		}
		out, _, _ := w.g.Run("plan", w.g.Name, "--json")
		var pl contract.Plan
		if err := json.Unmarshal([]byte(out), &pl); err != nil {
			return err
		}
		if pl.Steps > 0 {
			w.g.Run("apply", fmt.Sprint(pl.Id), "--ground", w.g.Name, "--yes")
		}
	}
	w.g.On(host, fmt.Sprintf("rm /srv/tide-work/go; while pgrep -u tides -f [i]ntrude >/dev/null; do sleep 0.05; done; rm -rf /srv/tide-work %s/x", r))
	if after := w.g.On(host, lookAtSecrets); after != before {
		return fmt.Errorf("root's files were\n%s\nand are\n%s", before, after)
	}
	return w.apply()
}

// p0 is a file of a tree that is, or lies in, what somebody swaps.
func p0(tree map[string]string, p string) string {
	for _, f := range slices.Sorted(maps.Keys(tree)) {
		if f == p || strings.HasPrefix(f, p+"/") {
			return f
		}
	}
	return p
}

const lookAtSecrets = "find " + secretDir + " -printf '%p %y %m %u %g %n %C@\\n' | sort; cat " + secretDir + "/*"

// bring brings about a file that is not declared.
func (w *walk) bring() error {
	host := w.g.Hosts[w.random.IntN(len(w.g.Hosts))]
	p, text := fmt.Sprintf("/srv/brought%d.txt", w.random.IntN(100)), fmt.Sprintf("brought %d", w.random.Uint64())
	w.say("%s on %s", p, host)
	if _, err := w.ns([]int{0}, "bring", "file", p, "--text", text, "--on", host, "--ground", w.g.Name, "--yes"); err != nil {
		return err
	}
	seen, err := w.look(host)
	if err == nil && seen["sum "+p] != shaOf(text) {
		err = fmt.Errorf("%s holds something else", p)
	}
	return err
}

// act restarts a service now.
func (w *walk) act() error {
	if err := w.apply(); err != nil {
		return err
	}
	before, err := w.looks()
	if err != nil {
		return err
	}
	host := w.g.Hosts[w.random.IntN(len(w.g.Hosts))]
	act := [][]string{{"restart", "cron"}, {"reboot"}, {"refresh-lists"}}[w.random.IntN(3)]
	if host == w.g.Hosts[0] && act[0] == "restart" {
		act[1] = map[bool]string{true: "apache2", false: "nginx"}[w.model.other]
	} else if act[0] == "restart" {
		act[1] = "httpd"
	}
	w.say("%v on %s", act, host)
	if _, err := w.ns([]int{0}, append([]string{"act", "--on", host, "--ground", w.g.Name, "--yes"}, act...)...); err != nil {
		return err
	}
	after, err := w.looks()
	if err != nil {
		return err
	}
	if d := differs(before[host], after[host]); len(d) > 0 {
		return fmt.Errorf("%v changed %s:\n%s", act, host, strings.Join(d[:min(len(d), 12)], "\n"))
	}
	if _, err := w.shifted(0); err != nil {
		return err
	}
	return w.asDeclared()
}
