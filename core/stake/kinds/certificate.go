package kinds

import (
	"bytes"
	"cmp"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strings"

	"northstake/core/certificate"
	"northstake/core/render"
	"northstake/core/stake"
	"northstake/core/wire"
)

// shown is the certificate that a site shows: what is said of it, its files, and where those lie; all of it
// nil for a site that shows none.
type shown struct {
	is    *wire.SiteCertificate
	files []wire.SiteFile
	at    *render.CertificateFiles
}

// certificate is what the site shows on the host. The names of the files hold its fingerprint: a server that
// still shows the one before has its files until it has loaded the new ones, and some look at a file again only
// where it is called otherwise.
func (g *siteWanting) certificate() (shown, error) {
	name := g.s.Certificate
	if name == "" {
		return shown{}, nil
	}
	secret := wire.CertificateSecret + name
	is := wire.SiteCertificate{Name: name, ReadOnce: g.layout.ReadsOnce}
	var text string
	if g.Secrets != nil {
		if value, err := g.Secrets.Value(secret); err == nil { // else the key lacks, and says why
			m, err := certificate.ReadMaterial(value)
			if err != nil {
				return shown{}, err
			}
			g.describe(&is, m.Chain)
			text = m.Chain.PEM()
		}
	}
	base := string(g.layout.Dir.Join(certificateFile(g.name, is.Fingerprint)))
	at := render.CertificateFiles{Chain: base + ".pem", Key: base + ".key"}
	key := wire.SiteFile{Path: wire.Path(at.Key), Is: wire.BesideKey, Group: wire.Administrators.Group, Mode: "0600", Sealed: g.Secrets.Seal(secret, keyOf)}
	if g.layout.KeyGroup != "" && g.s.Image == "" {
		key.Group, key.Mode = g.layout.KeyGroup, "0640"
	}
	return shown{&is, []wire.SiteFile{{Path: wire.Path(at.Chain), Text: text, Is: wire.BesideCertificate, Group: wire.Administrators.Group, Mode: "0644"}, key}, &at}, nil
}

// describe says what a site shows with a chain.
func (g *siteWanting) describe(is *wire.SiteCertificate, c certificate.Chain) {
	for _, one := range c {
		is.Behind = append(is.Behind, certificate.Sum(one))
	}
	is.Fingerprint, is.Behind, is.Names = is.Behind[0], is.Behind[1:], certificate.Names(c.Leaf())
	is.Since, is.Until = certificate.Valid(c)
	is.Told = is.Until.Add(-g.D.Certificates[is.Name].ToldFor())
	for _, n := range certificate.Judge(c, certificate.Use{Names: slices.Concat(g.s.Names, g.s.RedirectedNames)}).Mistakes {
		is.Wrong = append(is.Wrong, wire.Fault{What: n.What, Fix: n.Fix})
	}
}

// Fingerprints are those of the certificates that sites among some stakes show, by their names.
func Fingerprints(stakes []stake.Stake) map[string]string {
	out := map[string]string{}
	for _, s := range stakes {
		if s.Type != "site" {
			continue
		}
		if w, known := stake.Decoded[wire.SiteWant](s.Want); known && w.Certificate != nil {
			out[s.Name] = w.Certificate.Fingerprint
		}
	}
	return out
}

// keyOf is the private key of what the service keeps of a certificate, as servers read it.
func keyOf(material []byte) (string, error) {
	m, err := certificate.ReadMaterial(material)
	if err != nil {
		return "", err
	}
	return certificate.KeyPEM(m.Key)
}

// Renewed are those among some stakes, by their names on the host, of which nothing else is wanted otherwise
// than it was than one of some certificates that sites show: another one of the same name, for the same names;
// each with the site whose certificate that is. Was is what was wanted, by the same names.
func Renewed(stakes []stake.Stake, was map[string]json.RawMessage, certificates []string) map[string]string {
	out, now := map[string]string{}, map[string]wire.SiteWant{}
	for _, s := range stakes {
		w, sound := stake.Decoded[wire.SiteWant](s.Want)
		if s.Type != "site" || !sound {
			continue
		}
		now[s.Local()] = w
		before, known := stake.Decoded[wire.SiteWant](was[s.Local()])
		if known && isRenewed(before, w) && slices.Contains(certificates, w.Certificate.Name) && showsAlike(before, w, filesOf(s.Name, before, w)) {
			out[s.Local()] = s.Local()
		}
	}
	sites := maps.Clone(out)
	// What refuses other names on a server shows the certificate of a site, and goes with that or keeps it.
	for _, local := range stake.SortedKeys(was) {
		before, known := stake.Decoded[wire.SiteWant](was[local])
		if !strings.HasPrefix(local, "site/") || !known || before.Certificate != nil {
			continue
		}
		for shows := range sites {
			w, _ := stake.Decoded[wire.SiteWant](was[shows])
			files := filesOf(strings.TrimPrefix(shows, "site/"), w, now[shows])
			if is, declared := now[local]; !strings.Contains(before.Text, files[0]) {
				continue
			} else if declared && is.Certificate == nil && showsAlike(before, is, files) {
				out[local] = shows
			} else {
				delete(out, shows)
			}
		}
	}
	return out
}

// isRenewed says whether a site shows another certificate of the same name, for the same names.
func isRenewed(was, is wire.SiteWant) bool {
	b, n := was.Certificate, is.Certificate
	return b != nil && n != nil && b.Name == n.Name && slices.Equal(b.Names, n.Names) && b.Fingerprint != n.Fingerprint && b.Fingerprint != "" && n.Fingerprint != ""
}

// filesOf are what the files of a site's certificate were called, and are.
func filesOf(site string, was, is wire.SiteWant) []string {
	return []string{certificateFile(site, was.Certificate.Fingerprint), certificateFile(site, is.Certificate.Fingerprint)}
}

// showsAlike says whether all else is wanted as it was, but for what the files are called.
func showsAlike(was, is wire.SiteWant, files []string) bool {
	called := strings.NewReplacer(files...)
	return bytes.Equal(wire.JSON(whateverItShows(was, called)), wire.JSON(whateverItShows(is, called)))
}

// whateverItShows is what is wanted of a site, the same for each certificate of its names.
func whateverItShows(w wire.SiteWant, called *strings.Replacer) wire.SiteWant {
	text := called.Replace(w.Text)
	if w.Mark != "" { // a sum of the text, and in it
		text = strings.ReplaceAll(text, path.Base(render.MarkPath(w.Mark)), "")
	}
	w.Text, w.Mark, w.Lines, w.Vouched, w.Certificate, w.Former = text, "", "", nil, nil, nil
	if w.Visit != nil {
		v := *w.Visit
		v.Path = ""
		w.Visit = &v
	}
	w.Beside = slices.Clone(w.Beside)
	for i, f := range w.Beside {
		if f.Is == wire.BesideCertificate || f.Is == wire.BesideKey {
			w.Beside[i].Path, w.Beside[i].Text, w.Beside[i].Sealed = wire.Path(called.Replace(string(f.Path))), "", nil
		}
	}
	return w
}

// certificateFile is how the files of a certificate that a site shows are called, without their endings.
func certificateFile(site, fingerprint string) string {
	return "northstake-" + site + "-" + cmp.Or(fingerprint, strings.Repeat("0", 64))[:16]
}
