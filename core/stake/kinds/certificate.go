package kinds

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
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
	base := string(g.layout.Dir.Join("northstake-" + g.name + "-" + cmp.Or(is.Fingerprint, strings.Repeat("0", 64))[:16]))
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
		sum := sha256.Sum256(one.Raw)
		is.Behind = append(is.Behind, hex.EncodeToString(sum[:]))
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
