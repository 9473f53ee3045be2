package requests

import (
	"bufio"
	"cmp"
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Service is the other service of the table's sites: it says how it was asked, and answers
// in other ways where the path says so.
func Service() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Powered-By", "tides/9.9")
		w.Header().Set("X-Service", "of the service")
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		switch _, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/"); {
		case rest == "ws":
			echoFrame(w, r)
		case rest == "stream":
			fmt.Fprintln(w, "first half")
			w.(http.Flusher).Flush()
			time.Sleep(2 * time.Second)
			fmt.Fprintln(w, "second half")
		case rest == "json":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintln(w, "{}")
		case rest == "html":
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprintln(w, "<p>by the service")
		case rest == "leads":
			w.Header().Set("Location", "http://elsewhere.test/x")
			w.WriteHeader(http.StatusFound)
		case strings.HasPrefix(rest, "status/"):
			status, err := strconv.Atoi(strings.TrimPrefix(rest, "status/"))
			if err != nil {
				status = http.StatusBadRequest
			}
			w.WriteHeader(status)
			fmt.Fprintln(w, "said by the service")
		default:
			n, err := io.Copy(io.Discard, r.Body)
			told := func(name string) string {
				if v := r.Header.Values("X-Forwarded-" + name); len(v) > 0 {
					return strings.Join(v, " and ")
				}
				return "none"
			}
			var believed []string
			for name := range r.Header {
				plain := strings.ReplaceAll(strings.ToLower(name), "_", "-")
				if plain == "forwarded" || plain == "x-real-ip" || strings.HasPrefix(plain, "x-forwarded-") && !slices.Contains([]string{"X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"}, name) {
					believed = append(believed, strings.ToLower(name))
				}
			}
			slices.Sort(believed)
			fmt.Fprintf(w, "also told %s\n", cmp.Or(strings.Join(believed, " "), "nothing"))
			fmt.Fprintf(w, "method %s\npath %s\nhost %s\nbytes %d %v\nforwarded-for %s\nforwarded-host %s\nforwarded-proto %s\n", r.Method, r.RequestURI, r.Host, n, err, told("For"), told("Host"), told("Proto"))
		}
	})
}

// echoFrame answers a WebSocket handshake (RFC 6455, 4.2.2), and sends one short frame back.
func echoFrame(w http.ResponseWriter, r *http.Request) {
	if !strings.EqualFold(r.Header.Get("Upgrade"), "websocket") {
		w.WriteHeader(http.StatusUpgradeRequired)
		return
	}
	sum := sha1.Sum([]byte(r.Header.Get("Sec-WebSocket-Key") + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11"))
	c, both, err := w.(http.Hijacker).Hijack()
	if err != nil {
		return
	}
	defer c.Close()
	fmt.Fprintf(c, "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: %s\r\n\r\n", base64.StdEncoding.EncodeToString(sum[:]))
	frame, err := readFrame(both.Reader)
	if err != nil {
		return
	}
	c.Write(append([]byte{0x81, byte(len(frame))}, frame...)) // a client that has gone reads nothing
}

func readFrame(in *bufio.Reader) ([]byte, error) {
	head := make([]byte, 6)
	if _, err := io.ReadFull(in, head); err != nil {
		return nil, err
	}
	text := make([]byte, head[1]&0x7f)
	if _, err := io.ReadFull(in, text); err != nil {
		return nil, err
	}
	for i := range text {
		text[i] ^= head[2+i%4]
	}
	return text, nil
}

// Content is what the table's sites publish, by path.
func Content() map[string]string {
	long := strings.Repeat("All the ferries of the marsh sail with the tide.\n", 40)
	return map[string]string{
		"harbour/types/module.mjs":         "export const tide = 1",
		"harbour/types/script.js":          "tide()",
		"harbour/types/app.webmanifest":    "{}",
		"harbour/types/readme.md":          "# Tides",
		"harbour/types/table.csv":          "a,b",
		"harbour/types/film.vtt":           "WEBVTT",
		"harbour/types/plain.ttf":          "ttf",
		"harbour/types/plain.otf":          "otf",
		"harbour/types/plain.woff2":        "woff2",
		"harbour/types/map.geojson":        "{}",
		"harbour/types/data.jsonld":        "{}",
		"harbour/types/feed.xml":           "<a/>",
		"harbour/types/drawing.svg":        "<svg/>",
		"harbour/types/icon.ico":           "ico",
		"harbour/types/run.wasm":           "wasm",
		"harbour/types/UPPER.PDF":          "pdf",
		"harbour/types/odd.unheard":        "unheard",
		"app/app.html":                     "<h1>The app</h1>",
		"app/.secret":                      "password",
		"app/parts/code.js":                "function tide() {}",
		"harbour/index.html":               "<!doctype html><title>Harbour</title><p>Next sailing</p>\n" + long,
		"harbour/lost.html":                "<p>Lost at sea</p>\n",
		"harbour/barred.html":              "<p>Barred</p>\n",
		"harbour/page.html":                "<p>A page</p>\n",
		"harbour/style.css":                "body { color: navy }\n/* " + long + " */\n",
		"harbour/small.txt":                "low tide\n",
		"harbour/data.json":                "{\"tide\": \"low\"}\n",
		"harbour/photo.jpg":                "\xff\xd8\xff\xe0" + long,
		"harbour/.secret":                  "password\n",
		"harbour/.well-known/security.txt": "Contact: mailto:harbour@saltmarsh.test\n",
		"harbour/.well-known/.secret":      "password\n",
		"harbour/.well-knownish/x.txt":     "x\n",
		"harbour/sub/index.html":           "<p>Below</p>\n",
		"harbour/sub/.secret":              "password\n",
		"harbour/sub dir/a b.txt":          "spaces\n",
		"harbour/ünï.txt":                  "umlauts\n",
		"harbour/plus+name.txt":            "plus\n",
		"harbour/percent%41.txt":           "percent\n",
		"harbour/odd*name.txt":             "a star\n",
		"harbour/only/start.htm":           "<p>Started</p>\n",
		"harbour/empty/x.txt":              "x\n",
		"harbour/assets/app.js":            "app\n",
		"harbour/assets/now.js":            "now\n",
		"harbour/assets/x.css":             "x\n",
		"harbour/crew/index.html":          "<p>For the crew</p>\n",
		"harbour/crew/open/index.html":     "<p>Open to all</p>\n",
		"harbour/office/index.html":        "<p>The office</p>\n",
		"harbour/raw/index.html":           "<p>Raw</p>\n",
		"freight/freight.html":             "<p>Freight</p>\n",
		"freight/.secret":                  "password\n",
		"freight/rates/list.txt":           "ten a tonne\n",
		"old/old.html":                     "<p>Old rates</p>\n",
		"static/index.html":                "<p>Static</p>\n",
		"static/a.txt":                     "plain\n",
		"ferries/index.html":               "<p>The ferries</p>\n",
		"ferries/notes.txt":                long,
		"ferries/.dotfile":                 "dotted\n",
		"ferries/dir/file.txt":             "a file\n",
	}
}
