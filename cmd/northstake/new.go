package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
)

func newCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "new DIR", Short: "Write a small ground to start from", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := args[0]
			if left, err := os.ReadDir(dir); err == nil && len(left) > 0 {
				return fmt.Errorf("%s is not empty; name a new directory", dir)
			}
			name := plainWord(filepath.Base(absolute(dir)))
			for path, text := range starter(name) {
				full := filepath.Join(dir, path)
				if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
					return err
				}
				if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
					return err
				}
			}
			schema, err := json.MarshalIndent(schemaOf(), "", "  ")
			if err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(dir, ".northstake.schema.json"), append(schema, '\n'), 0o644); err != nil {
				return err
			}
			a.out.line("wrote ground %s to %s. Next, in that directory:", name, dir)
			for i, next := range [][2]string{
				{"correct the address of host web1, and the user that logs in there, in ground.toml", ""},
				{"northstake lint", "checks it; no service is needed"},
				{"northstake secret keep keeper --file ~/.ssh/id_ed25519", "gives the service the key to log in with"},
				{"northstake declare", "gives the service the declaration"},
				{"northstake trust web1", "shows the host's key, and asks whether it is that host's"},
				{"northstake plan", "shows what would change, and changes nothing"},
				{"northstake apply PLAN", "carries that out"},
			} {
				a.out.line("%3d  %s", i+1, strings.TrimSuffix(next[0]+"  "+a.out.faint(next[1]), "  "))
			}
			return nil
		},
	}
}

func absolute(dir string) string {
	if p, err := filepath.Abs(dir); err == nil {
		return p
	}
	return dir
}

// plainWord makes a ground's name of a directory's.
func plainWord(s string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(s) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' && b.Len() > 0 {
			b.WriteRune(r)
		}
	}
	name := strings.Trim(b.String(), "-")
	if len(name) > 40 {
		name = strings.Trim(name[:40], "-")
	}
	if name == "" {
		return "ground"
	}
	return name
}

func starter(name string) map[string]string {
	return map[string]string{
		"ground.toml": fmt.Sprintf(`#:schema ./.northstake.schema.json
# A ground: the hosts and sites that are declared, planned and changed together.
[ground]
name  = %q
about = "What this ground is, in a line"

# How hosts are reached. Give the private key to the service under its name:
#   northstake secret keep keeper --file ~/.ssh/id_ed25519
[reach]
user       = "keeper"
key_secret = "keeper"
sudo       = true

# A kit is a bundle of settings that hosts share.
[kit.base]
packages = ["curl"]

[host.web1]
address = "192.0.2.11"      # the address of your first host
kits    = ["base"]
# inbound = "declared"      # let in SSH and declared ports, and drop the rest

# A site implies its stakes: the web server's package, its service running and
# at boot, the document root, the content, the virtual host, the open port.
[site.welcome]
on      = ["web1"]
server  = "nginx"
names   = ["welcome.test"]
listen  = [80]
root    = "/srv/www/welcome"
index   = ["index.html"]
content = { dir = "content/welcome", owner = "root" }

# Checked from inside the host and from outside after every run.
[[site.welcome.probe]]
path     = "/"
contains = "Welcome"
`, name),
		"content/welcome/index.html": "<!doctype html>\n<html lang=\"en\">\n<title>Welcome</title>\n<h1>Welcome</h1>\n<p>This page was published by North Stake.</p>\n</html>\n",
	}
}
