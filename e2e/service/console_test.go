package service

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync"

	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"northstake/e2e"
	"northstake/e2e/stage"
)

// In the console, with the keyboard and the mouse as a person would: sign in,
// see the drift, apply, watch it become set.
func TestConsole(t *testing.T) {
	t.Parallel()
	g := stage.NewGround(t, stage.Shared(), 1, stage.BareKit)
	g.Trust()
	g.Apply(0)
	host := g.Hosts[0]
	g.On(host, "sed -i 's/one/six/' /srv/www/timetable/index.html; systemctl stop nginx")
	if status, _, err := stage.Get("http://"+g.Address(host)+"/", "timetable.saltmarsh.test"); err == nil {
		t.Fatalf("a stopped server answers %d", status)
	}

	at := troubledProxy(t, g.Service.Address)
	limited, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	page, end, err := e2e.Browser(limited, 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	defer end()
	do := func(what string, actions ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		if err := chromedp.Do(page, actions...); err != nil {
			text, _ := chromedp.Run(page, chromedp.Evaluate[string]("document.body.innerText"))
			t.Fatalf("%s: %v; the page says:\n%s", what, err, text)
		}
	}
	shows := func(want string) {
		t.Helper()
		var text string
		for range 300 {
			var err error
			if text, err = chromedp.Run(page, chromedp.Evaluate[string]("document.body.innerText")); err == nil && strings.Contains(strings.ToLower(text), strings.ToLower(want)) {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatalf("the page never says %q; it says:\n%s", want, text)
	}
	press := func(label string) {
		t.Helper()
		script := fmt.Sprintf(`(() => { const b = [...document.querySelectorAll('button,a')].find((b) => b.innerText.trim().startsWith(%q) && !b.disabled); if (!b) return false; b.focus(); b.click(); return true })()`, label)
		for range 300 {
			if ok, err := chromedp.Run(page, chromedp.Evaluate[bool](script)); err == nil && ok {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Fatalf("there is no button %q", label)
	}

	do("open", chromedp.Navigate(at+"/"+g.Name+"/drift"), chromedp.WaitVisible(chromedp.CSS("#token")))
	do("sign in wrongly", chromedp.SendKeys(chromedp.CSS("#token"), "ns_wrong\n"))
	shows("the token is not known")
	do("sign in", chromedp.Evaluate[chromedp.Void](`document.querySelector('#token').select()`), chromedp.SendKeys(chromedp.CSS("#token"), g.Service.Token(t)+"\n"))
	shows("Nothing had shifted on 1 host when it was last looked at")
	press("Check again")
	shows("2 shifted")
	shows("text of index.html")
	for _, address := range []string{host + "/content/srv/www/timetable", host + "/service/nginx"} {
		standing, err := chromedp.Run(page, chromedp.Evaluate[string](fmt.Sprintf(`document.querySelector('[data-name=%q]').dataset.standing`, address)))
		if err != nil || standing != "shifted" {
			t.Errorf("%s is drawn as %q, %v", address, standing, err)
		}
	}
	press("Plan to put it back")
	shows("publish 1 changed of 2 files")
	shows("start nginx")
	press("Apply 2 steps to " + host)
	shows("as shown, on")
	// Escape leaves it; nothing is done.
	do("leave the question", chromedp.KeyEvent("\x1b"))
	press("Apply 2 steps to " + host)
	shows("Leave it")
	script := `[...document.querySelectorAll('[role=alertdialog] button')].at(-1).click()`
	do("confirm", chromedp.Evaluate[chromedp.Void](script))
	shows("Done. Every host is as the plan says.")
	if _, body := g.Fetch(host, "/"); !strings.Contains(body, "version one") {
		t.Errorf("the site shows %q", body)
	}
	do("look at the host", chromedp.Navigate(at+"/"+g.Name+"/hosts/"+host), chromedp.WaitVisible(chromedp.CSS("h1")))
	shows("Debian GNU/Linux 12")
	left, err := chromedp.Run(page, chromedp.Evaluate[int](`document.querySelectorAll('li[data-standing]:not([data-standing=set])').length`))
	if err != nil || left != 0 {
		t.Errorf("%d stakes are not set, %v", left, err)
	}
	// The site's page has each line of its configuration beside the one that it comes from.
	do("look at the site", chromedp.Navigate(at+"/"+g.Name+"/sites/timetable"), chromedp.WaitVisible(chromedp.CSS("h1")))
	shows("timetable.saltmarsh.test")
	press("/etc/nginx/sites-available/northstake-timetable.conf")
	shows("root \"/srv/www/timetable\";")
	beside := `[...document.querySelectorAll('[data-rendered] li')].find((l) => l.innerText.includes('location ^~ "/quay/"')).innerText`
	if text, err := chromedp.Run(page, chromedp.Evaluate[string](beside)); err != nil || !strings.Contains(text, `[site.timetable.path."/quay"]`) {
		t.Errorf("beside the location of a path stands %q, %v", text, err)
	}
	press("Probe")
	shows("first byte")
	if n, err := chromedp.Run(page, chromedp.Evaluate[int](`document.querySelectorAll('tr[data-probe=ok]').length`)); err != nil || n != 2 {
		t.Errorf("%d probes are well, %v", n, err)
	}
	do("look at the ground", chromedp.Navigate(at+"/"+g.Name), chromedp.WaitVisible(chromedp.CSS("h1")))
	shows("All stakes of 1 host were set when last looked at")
	// What nobody declared is removed only when its stake has been named.
	// Its name turns the direction of writing: that is shown, and not done (X3).
	g.On(host, "echo mine > /srv/www/timetable/stray$(printf '\\342\\200\\256')txt.html")
	declared, err := os.ReadFile(filepath.Join(g.Dir, "ground.toml"))
	if err != nil {
		t.Fatal(err)
	}
	stage.Write(t, filepath.Join(g.Dir, "ground.toml"), strings.Replace(string(declared), `{ dir = "content" }`, `{ dir = "content", undeclared_files = "removed" }`, 1))
	g.Ns(0, "declare", g.Dir)
	p := g.Plan(1)
	do("look at a plan that removes", chromedp.Navigate(fmt.Sprintf("%s/%s/plans/%d", at, g.Name, p.Id)), chromedp.WaitVisible(chromedp.CSS("h1")))
	press("Apply 1 step to " + host)
	shows("1 file that nobody declared will be removed")
	shows(`stray\u202etxt.html`)
	disabled := `[...document.querySelectorAll('[role=alertdialog] button')].at(-1).disabled`
	field := `[role=alertdialog] input`
	for _, typed := range []struct {
		text string
		shut bool
	}{{"", true}, {host + "/content/srv/www/freight", true}, {host + "/content/srv/www/timetable", false}} {
		do("name the stake", chromedp.Evaluate[chromedp.Void](`document.querySelector('`+field+`').focus(); document.querySelector('`+field+`').select()`), chromedp.KeyEvent("\b"), chromedp.SendKeys(chromedp.CSS(field), typed.text))
		if shut, err := chromedp.Run(page, chromedp.Evaluate[bool](disabled)); err != nil || shut != typed.shut {
			t.Errorf("with %q typed the button is shut: %t, %v", typed.text, shut, err)
		}
	}
	do("confirm", chromedp.Evaluate[chromedp.Void](script))
	shows("Done. Every host is as the plan says.")
	if left := strings.TrimSpace(g.On(host, "ls /srv/www/timetable")); strings.Contains(left, "stray") {
		t.Errorf("in the root there is %s", left)
	}
	// No page is wider than a narrow window.
	for _, path := range []string{"", "/drift", "/plans", "/runs", "/hosts/" + host, "/sites/timetable"} {
		do("narrow", chromedp.EmulateViewport(390, 844), chromedp.Navigate(at+"/"+g.Name+path), chromedp.WaitVisible(chromedp.CSS("h1")), chromedp.Sleep(300*time.Millisecond))
		wide, err := chromedp.Run(page, chromedp.Evaluate[int](`document.documentElement.scrollWidth`))
		if err != nil || wide > 390 {
			t.Errorf("at 390 pixels %s is %d wide, %v", path, wide, err)
		}
	}
	do("sign out", chromedp.EmulateViewport(1280, 800), chromedp.Click(chromedp.CSS(`button[aria-label="Sign out"]`)), chromedp.WaitVisible(chromedp.CSS("#token")))
}

// troubledProxy passes on to a service, and answers the first request for each stream with 502, as a
// proxy does while what is behind it is away for a moment: a page follows all the same (Y2).
func troubledProxy(t *testing.T, service string) string {
	t.Helper()
	to, err := url.Parse(service)
	if err != nil {
		t.Fatal(err)
	}
	pass := &httputil.ReverseProxy{FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.Out.Host = r.In.Host
	}}
	var asked sync.Map
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/events") {
			if _, again := asked.LoadOrStore(r.URL.Path, true); !again {
				http.Error(w, "away for a moment", http.StatusBadGateway)
				return
			}
		}
		pass.ServeHTTP(w, r)
	}))
	t.Cleanup(func() {
		proxy.CloseClientConnections()
		proxy.Close()
		streams := 0
		asked.Range(func(any, any) bool { streams++; return true })
		if streams < 3 {
			t.Errorf("%d streams were asked for", streams)
		}
	})
	return proxy.URL
}
