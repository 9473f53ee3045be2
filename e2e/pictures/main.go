// Command pictures takes the pictures of docs/screenshots from the demo: the
// console's pages in headless Chromium, at the address and with the token file
// that are given.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"northstake/e2e"
)

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "pictures ADDRESS TOKEN-FILE DIR")
		os.Exit(2)
	}
	if err := take(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(2)
	}
}

type picture struct {
	name, path    string
	width, height int64
	dark          bool
	before        chromedp.Action[chromedp.Void]
}

func take(address, tokenFile, dir string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	b, err := os.ReadFile(tokenFile)
	if err != nil {
		return err
	}
	token := strings.TrimSpace(string(b))
	plan, run, err := newest(address, token)
	if err != nil {
		return err
	}
	page, end, err := e2e.Browser(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	if err := chromedp.Do(page, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(address), chromedp.WaitVisible(chromedp.CSS("#token"))); err != nil {
		return err
	}
	if err := shoot(page, filepath.Join(dir, "console-sign-in.png")); err != nil {
		return err
	}
	if err := chromedp.Do(page, chromedp.SendKeys(chromedp.CSS("#token"), token), chromedp.Click(chromedp.CSS("button[type=submit]"), chromedp.NodeVisible), chromedp.WaitVisible(chromedp.CSS("header"))); err != nil {
		return err
	}
	unfold := chromedp.Evaluate[chromedp.Void](`document.querySelectorAll('[data-step] button').forEach((b, i) => i < 3 && b.click())`)
	siteOpened := chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('button')].filter((b) => /^Probe$|northstake-/.test(b.innerText.trim())).forEach((b) => b.click())`)
	for _, p := range []picture{
		{name: "console-ground", path: "/saltmarsh"},
		{name: "console-ground-narrow-dark", path: "/saltmarsh", width: 390, height: 844, dark: true},
		{name: "console-host", path: "/saltmarsh/hosts/quay2"},
		{name: "console-site", path: "/saltmarsh/sites/fares", before: siteOpened},
		{name: "console-drift", path: "/saltmarsh/drift"},
		{name: "console-drift-dark", path: "/saltmarsh/drift", dark: true},
		{name: "console-plan", path: "/saltmarsh/plans/" + plan, before: unfold},
		{name: "console-plan-narrow", path: "/saltmarsh/plans/" + plan, width: 390, height: 844},
		{name: "console-run", path: "/saltmarsh/runs/" + run},
		{name: "console-keys", path: "/help/keys"},
	} {
		if p.width == 0 {
			p.width, p.height = 1280, 800
		}
		theme := map[bool]string{true: "dark", false: "light"}[p.dark]
		steps := []chromedp.Action[chromedp.Void]{
			chromedp.EmulateViewport(p.width, p.height),
			chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`localStorage.setItem('theme', %q)`, theme)),
			chromedp.Navigate(address + p.path), chromedp.WaitVisible(chromedp.CSS("h1")), chromedp.Sleep(700 * time.Millisecond),
		}
		if p.before != nil {
			steps = append(steps, p.before, chromedp.Sleep(800*time.Millisecond))
		}
		if err := chromedp.Do(page, steps...); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		if err := shoot(page, filepath.Join(dir, p.name+".png")); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return nil
}

func shoot(page context.Context, file string) error {
	png, err := chromedp.Run(page, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}

// newest finds the newest run and the plan that it did.
func newest(address, token string) (plan, run string, err error) {
	req, err := http.NewRequest(http.MethodGet, address+"/api/v1/grounds/saltmarsh/runs", nil)
	if err != nil {
		return "", "", err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", "", err
	}
	defer res.Body.Close()
	var runs []struct{ ID, Plan int64 }
	if err := json.NewDecoder(res.Body).Decode(&runs); err != nil || len(runs) == 0 {
		return "", "", fmt.Errorf("the ground has no run: %w", err)
	}
	last := runs[len(runs)-1]
	return fmt.Sprint(last.Plan), fmt.Sprint(last.ID), nil
}
