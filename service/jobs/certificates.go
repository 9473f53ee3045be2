package jobs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"northstake/core/certificate"
	"northstake/core/declare"
	"northstake/core/wire"
	"northstake/service/store"
)

// material is what the service has of a certificate that a ground declares, with its private key, as
// certificate.ReadMaterial reads it.
func (j *Service) material(ctx context.Context, ground string, d *declare.Declaration, name string) ([]byte, error) {
	c := d.Certificates[name]
	if c == nil {
		return nil, fmt.Errorf("the ground has no certificate %q", name)
	}
	if c.IsMade() {
		return j.kept(ctx, keptAs(ground, name))
	}
	m, err := j.handedOver(ctx, d, c)
	if err != nil {
		return nil, fmt.Errorf("certificate %s: %w", name, err)
	}
	text, err := m.PEM()
	return []byte(text), err
}

// Chain is a certificate that a ground declares, with those behind it; nil while the service has yet to make it.
func (j *Service) Chain(ctx context.Context, ground string, d *declare.Declaration, name string) (certificate.Chain, error) {
	if d.Certificates[name].IsMade() {
		return j.made(ctx, keptAs(ground, name))
	}
	m, err := j.handedOver(ctx, d, d.Certificates[name])
	return m.Chain, err
}

// AuthorityOf is the certificate of an authority of a ground; nil while the service has yet to make it.
func (j *Service) AuthorityOf(ctx context.Context, ground, name string) (certificate.Chain, error) {
	return j.made(ctx, authorityOf(ground, name))
}

// made is the certificate that a secret holds with its key, nil where there is no such secret.
func (j *Service) made(ctx context.Context, name string) (certificate.Chain, error) {
	m, _, err := j.keptMaterial(ctx, name)
	return m.Chain, err
}

// handedOver reads a certificate of which the files lie beside the declaration.
func (j *Service) handedOver(ctx context.Context, d *declare.Declaration, c *declare.Certificate) (m certificate.Material, err error) {
	if c.Bundle != "" {
		bundle, err := d.TextBeside(c.Bundle)
		if err != nil {
			return m, err
		}
		var password []byte
		if c.PasswordSecret != "" {
			if password, err = j.kept(ctx, c.PasswordSecret); err != nil {
				return m, err
			}
		}
		m.Chain, m.Key, err = certificate.ReadBundle([]byte(bundle), string(password))
		return m, err
	}
	text, err := d.TextBeside(c.File)
	if err != nil {
		return m, err
	}
	if m.Chain, err = certificate.ReadChain([]byte(text)); err != nil {
		return m, err
	}
	key, err := j.kept(ctx, c.KeySecret)
	if err != nil {
		return m, err
	}
	if m.Key, err = certificate.ReadKey(key); err != nil {
		return m, fmt.Errorf("secret %s: %w", c.KeySecret, err)
	}
	if !certificate.IsPair(m.Chain.Leaf(), m.Key) {
		return m, fmt.Errorf("the private key in secret %s is not that of the certificate in %s", c.KeySecret, c.File)
	}
	return m, nil
}

// kept is what a secret holds.
func (j *Service) kept(ctx context.Context, name string) ([]byte, error) {
	sealed, err := j.Store.Secret(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &noSecret{name}
	}
	if err != nil {
		return nil, err
	}
	return j.Seal.Open(name, sealed)
}

// noSecret is a secret that the service does not hold.
type noSecret struct{ name string }

func (n *noSecret) Error() string { return fmt.Sprintf("there is no secret called %q", n.name) }

// keptAs is the name of the secret that holds what the service made for a ground. No name that people choose
// for a secret has a slash.
func keptAs(ground, what string) string { return wire.CertificateSecret + ground + "/" + what }

// authorityOf is the name of the secret that holds an authority of a ground.
func authorityOf(ground, name string) string { return "authority/" + ground + "/" + name }

// makeCertificates makes the certificates of a ground that it is to make and has not got, with their
// authorities, and those anew that are for other names by now, or of which a third of the life is left.
func (j *Service) makeCertificates(ctx context.Context, ground string, d *declare.Declaration) error {
	for name, c := range d.Certificates {
		if !c.IsMade() {
			continue
		}
		if err := j.makeCertificate(ctx, ground, d, name, c); err != nil {
			return fmt.Errorf("make certificate %s: %w", name, err)
		}
	}
	return nil
}

func (j *Service) makeCertificate(ctx context.Context, ground string, d *declare.Declaration, name string, c *declare.Certificate) error {
	now, names := j.Now(), d.NamesOf(name)
	if len(names) == 0 {
		return nil // nobody shows it
	}
	var by certificate.Authority
	if c.Authority != "" {
		var err error
		if by, err = j.authority(ctx, ground, c.Authority, d.Authorities[c.Authority], now); err != nil {
			return err
		}
	}
	has, was, err := j.keptMaterial(ctx, keptAs(ground, name))
	if err != nil || was != nil && has.IsFor(names, by.Certificate) && certificate.Left(has.Chain.Leaf(), now) > certificate.RenewedAt {
		return err
	}
	key, err := certificate.NewKey(c.Key)
	if err != nil {
		return err
	}
	m := certificate.Material{Key: key}
	if c.Authority != "" {
		m.Chain, err = by.Issue(names, key, now, c.Life())
	} else {
		m.Chain, err = certificate.SelfSigned(names, key, now, c.Life())
	}
	if err != nil {
		return err
	}
	if was != nil { // it goes back to its hosts as long as it is what was last brought there
		if err := j.keepFormer(ctx, keptAs(ground, name), has); err != nil {
			return err
		}
	}
	_, err = j.keep(ctx, keptAs(ground, name), was, m)
	return err
}

// formerly is the name of the secret that holds what was kept under a name before the service made it anew.
func formerly(name string) string { return name + "/former" }

// keepFormer keeps what is about to be made anew.
func (j *Service) keepFormer(ctx context.Context, name string, m certificate.Material) error {
	sealed, err := j.sealed(formerly(name), m)
	if err != nil {
		return err
	}
	return j.Store.KeepSecret(ctx, formerly(name), sealed)
}

func (j *Service) sealed(name string, m certificate.Material) ([]byte, error) {
	text, err := m.PEM()
	if err != nil {
		return nil, err
	}
	return j.Seal.Close(name, []byte(text))
}

// authority is one of a ground, made where there is none yet.
func (j *Service) authority(ctx context.Context, ground, name string, a *declare.Authority, now time.Time) (certificate.Authority, error) {
	m, was, err := j.keptMaterial(ctx, authorityOf(ground, name))
	if err != nil {
		return certificate.Authority{}, err
	}
	if was == nil {
		title := a.Title
		if title == "" {
			title = ground + ", " + name
		}
		key, err := certificate.NewKey(a.Key)
		if err != nil {
			return certificate.Authority{}, err
		}
		made, err := certificate.NewAuthority(title, a.Domains, key, now, a.Life())
		if err != nil {
			return made, err
		}
		if m, err = j.keep(ctx, authorityOf(ground, name), nil, certificate.Material{Chain: certificate.Chain{made.Certificate}, Key: key}); err != nil {
			return made, err
		}
	}
	return certificate.Authority{Certificate: m.Chain.Leaf(), Key: m.Key}, nil
}

// keptMaterial is what the service has made and kept, and as it lies there, sealed: nil where there is none.
func (j *Service) keptMaterial(ctx context.Context, name string) (m certificate.Material, sealed []byte, err error) {
	sealed, err = j.Store.Secret(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return m, nil, nil
	}
	if err != nil {
		return m, nil, err
	}
	text, err := j.Seal.Open(name, sealed)
	if err == nil {
		m, err = certificate.ReadMaterial(text)
	}
	if err != nil { // what rests on it would be lost with it
		return m, nil, NotReady{fmt.Sprintf("what the service has kept as %s cannot be read: its key file is not the one that it was kept with", name), "start the service with that key file (secrets.key)"}
	}
	return m, sealed, nil
}

// keep keeps what the service has made, encrypted, in place of what lay there, sealed so. Where somebody else
// was first it is that which is kept, and returned.
func (j *Service) keep(ctx context.Context, name string, was []byte, m certificate.Material) (certificate.Material, error) {
	sealed, err := j.sealed(name, m)
	if err != nil {
		return m, err
	}
	first, err := j.Store.ReplaceSecret(ctx, name, was, sealed)
	if err != nil || first {
		return m, err
	}
	m, _, err = j.keptMaterial(ctx, name)
	return m, err
}
