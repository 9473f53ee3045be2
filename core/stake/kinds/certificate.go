package kinds

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
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
	is := wire.SiteCertificate{Name: name}
	var text string
	if g.Secrets != nil {
		if value, err := g.Secrets.Value(secret); err == nil { // else the key lacks, and says why
			m, err := certificate.ReadMaterial(value)
			if err != nil {
				return shown{}, err
			}
			leaf := m.Chain.Leaf()
			sum := sha256.Sum256(leaf.Raw)
			is.Fingerprint, is.Until, is.Names, text = hex.EncodeToString(sum[:]), leaf.NotAfter, certificate.Names(leaf), m.Chain.PEM()
		}
	}
	base := string(g.layout.Dir.Join("northstake-" + g.name + "-" + cmp.Or(is.Fingerprint, strings.Repeat("0", 64))[:16]))
	at := render.CertificateFiles{Chain: base + ".pem", Key: base + ".key"}
	key := wire.SiteFile{Path: wire.Path(at.Key), Is: wire.BesideKey, Group: wire.Administrators.Group, Mode: "0600", Sealed: g.Secrets.Seal(secret, keyOf)}
	if g.layout.KeyGroup != "" && g.s.Image == "" {
		key.Group, key.Mode = g.layout.KeyGroup, "0640"
	}
	return shown{&is, []wire.SiteFile{{Path: wire.Path(at.Chain), Text: text, Is: wire.BesideCertificate, Group: wire.Administrators.Group, Mode: "0644"}, key}, &at}, nil
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
