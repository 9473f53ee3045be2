package walk

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"northstake/e2e/stage"
)

// othersOf is what somebody has set up by hand on a host before North Stake came: virtual hosts of a
// server on ports of their own, and a program that answers; each says theirs, and which it is.
func othersOf(first bool) string {
	program := `cat > /etc/systemd/system/their-tide.socket <<'X'
[Socket]
ListenStream=5999
Accept=yes
[Install]
WantedBy=sockets.target
X
cat > /etc/systemd/system/their-tide@.service <<'X'
[Service]
ExecStart=/bin/echo theirs 5999
StandardInput=socket
X
systemctl daemon-reload; systemctl enable -q --now their-tide.socket
`
	httpd := func(dir string) string {
		return "mkdir -p /var/www/theirs; echo 'theirs 8097' > /var/www/theirs/index.html; printf 'Listen 8097\n<VirtualHost *:8097>\nServerName their.saltmarsh.test\nDocumentRoot /var/www/theirs\n</VirtualHost>\n' > " + dir + "/their.conf\n"
	}
	if !first {
		return "dnf -y -q install httpd >/dev/null 2>&1\n" + httpd("/etc/httpd/conf.d") + program + "systemctl enable -q --now httpd"
	}
	return "export DEBIAN_FRONTEND=noninteractive; apt-get install -y -q nginx >/dev/null 2>&1; rm -f /etc/nginx/sites-enabled/default\n" +
		"printf 'server {\n\tlisten 8096;\n\tserver_name their.saltmarsh.test;\n\treturn 200 \"theirs 8096\\\\n\";\n}\n' > /etc/nginx/conf.d/their.conf\n" +
		program + "systemctl enable -q nginx; systemctl restart nginx"
}

// theirsAnswer asks each of the others' on its own host.
const theirsAnswer = `for port in 8096 8097; do
  printf '%s %s\n' $port "$(timeout 5 bash -c 'exec 3<>/dev/tcp/127.0.0.1/'$port' && printf "GET / HTTP/1.0\r\nHost: their.saltmarsh.test\r\n\r\n" >&3 && tail -n 1 <&3' 2>/dev/null)"
done
printf '5999 %s\n' "$(timeout 5 bash -c 'cat < /dev/tcp/127.0.0.1/5999')"
`

// othersAnswer says which of the others' does not answer as it did before North Stake came.
func (w *walk) othersAnswer() error {
	for i, h := range w.g.Hosts {
		out, err := stage.Lab().Shell(context.Background(), h, theirsAnswer)
		if err != nil {
			return err
		}
		want := "8096 theirs 8096\n8097 \n5999 theirs 5999\n"
		if i > 0 {
			want = "8096 \n8097 theirs 8097\n5999 theirs 5999\n"
		}
		if strings.TrimSpace(out) != strings.TrimSpace(want) {
			return fmt.Errorf("on %s what is others' answers\n%s\nwant\n%s", h, out, want)
		}
	}
	return nil
}

// bare takes everything away that runs brought about, and brings it about again: what others have beside
// it goes on meanwhile.
func (w *walk) bare() error {
	if err := w.apply(); err != nil {
		return err
	}
	if _, err := w.ns([]int{0}, "retire", "--all", "--ground", w.g.Name, "--yes"); err != nil {
		return err
	}
	w.model.noted = false // with the file
	for _, h := range w.g.Hosts {
		if out, err := stage.Lab().Shell(context.Background(), h, "find /etc/nginx /etc/apache2 /etc/httpd /etc/northstake -name 'northstake-*' 2>/dev/null; nft list tables | grep northstake; true"); err != nil || strings.TrimSpace(out) != "" {
			return errors.Join(err, fmt.Errorf("retired, and on %s there is still\n%s", h, out))
		}
	}
	if err := w.othersAnswer(); err != nil {
		return err
	}
	return w.apply()
}

// visitorsEdit is an edit by hand of what a server takes in, or of the command that starts it: no file of
// North Stake's is touched, and visitors of all its sites there get something else, or will.
func (w *walk) visitorsEdit(host string, sites []string, of func(...string) string) handEdit {
	first, other := host == w.g.Hosts[0], w.model.other
	named := ""
	for _, s := range sites {
		named += "site/" + s + " "
	}
	at := w.g.Address(host)
	nginx := fmt.Sprintf("printf 'server { listen %s:80; server_name elsewhere.test; return 200 \"theirs\"; }\\n' > /etc/nginx/elsewhere.conf", at)
	httpd := fmt.Sprintf("printf '<VirtualHost %s:80>\\nServerName elsewhere.test\\nDocumentRoot /var/www/theirs\\n</VirtualHost>\\n' > /etc/%%[1]s/elsewhere.conf", at)
	switch {
	case first && !other:
		undo := "cat /tmp/main > /etc/nginx/nginx.conf; rm -f /etc/nginx/elsewhere.conf; systemctl reload nginx; sleep 0.5"
		return handEdit{named, "cp -p /etc/nginx/nginx.conf /tmp/main; " + of(
			"sed -i '/sites-enabled/d' /etc/nginx/nginx.conf",
			nginx+"; sed -i 's|include /etc/nginx/sites-enabled|include /etc/nginx/elsewhere.conf;\\n\\t&|' /etc/nginx/nginx.conf; systemctl reload nginx; sleep 0.5"), undo}
	case first:
		undo := "cat /tmp/main > /etc/apache2/apache2.conf; rm -f /etc/apache2/elsewhere.conf; systemctl reload apache2; sleep 0.5"
		return handEdit{named, "cp -p /etc/apache2/apache2.conf /tmp/main; " + of(
			"sed -i '/sites-enabled/d' /etc/apache2/apache2.conf",
			fmt.Sprintf(httpd, "apache2")+"; echo 'Include /etc/apache2/elsewhere.conf' >> /etc/apache2/apache2.conf; systemctl reload apache2; sleep 0.5"), undo}
	}
	undo := "cat /tmp/main > /etc/httpd/conf/httpd.conf; rm -f /etc/httpd/elsewhere.conf; systemctl reload httpd; sleep 0.5"
	return handEdit{named, "cp -p /etc/httpd/conf/httpd.conf /tmp/main; " + of(
		"sed -i '/conf.d/d' /etc/httpd/conf/httpd.conf",
		fmt.Sprintf(httpd, "httpd")+"; echo 'Include /etc/httpd/elsewhere.conf' >> /etc/httpd/conf/httpd.conf; systemctl reload httpd; sleep 0.5"), undo}
}

// cutLine has a host answer nobody at its SSH port for some seconds, and ends what talks there.
const cutLine = "setsid sh -c 'nft \"table inet cut { chain in { type filter hook input priority -300; tcp dport 22 drop; }; }\"; pkill -KILL -f \"[s]shd.*keeper\"; sleep 4; nft delete table inet cut' >/dev/null 2>&1 &"
