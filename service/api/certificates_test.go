package api_test

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"

	"northstake/service/contract"
	"northstake/service/servicetest"
)

const ownAuthority = `[authority.office]
domains = ["saltmarsh.test"]
[certificate.quays]
authority = "office"
names = ["timetable.saltmarsh.test"]
`

// What the service makes of certificates is told without its keys, is no secret that people can ask for or
// keep, is the ground's own, and goes with it.
func TestCertificatesAreOfTheirGround(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "certified1")
	certificates := func(ground string) map[string]contract.CertificateView {
		t.Helper()
		res, err := s.Client.ListCertificatesWithResponse(ctx, ground)
		if err != nil || res.JSON200 == nil {
			t.Fatalf("%v: %s", err, res.Body)
		}
		out := map[string]contract.CertificateView{}
		for _, c := range *res.JSON200 {
			out[c.Name] = c
		}
		if text, _ := json.Marshal(out); strings.Contains(string(text), "PRIVATE") {
			t.Errorf("a private key is told: %s", text)
		}
		return out
	}
	declared(t, s, "certified", "certified1", ownAuthority)
	if c := certificates("certified"); c["quays"].Unread == "" || c["office"].Unread == "" {
		t.Errorf("before a plan there is %+v", c)
	}
	planned(t, s, "certified", contract.Ask{})
	first := certificates("certified")
	if quays := first["quays"]; quays.Fingerprint == "" || quays.Issuer != "certified, office" || len(quays.Notes) > 0 || !strings.HasPrefix(quays.Pem, "-----BEGIN CERTIFICATE-----") {
		t.Errorf("the certificate is %+v", quays)
	}
	planned(t, s, "certified", contract.Ask{})
	if again := certificates("certified"); again["quays"].Fingerprint != first["quays"].Fingerprint || again["office"].Fingerprint != first["office"].Fingerprint {
		t.Error("a second plan has made another certificate")
	}

	declared(t, s, "beside", "certified1", ownAuthority)
	planned(t, s, "beside", contract.Ask{})
	if other := certificates("beside"); other["office"].Fingerprint == first["office"].Fingerprint || other["quays"].Fingerprint == first["quays"].Fingerprint {
		t.Error("another ground is given the certificates of this one")
	}

	list, err := s.Client.ListSecretsWithResponse(ctx)
	if err != nil || strings.Contains(string(list.Body), "certif") || strings.Contains(string(list.Body), "authority") {
		t.Errorf("%v: the secrets are %s", err, list.Body)
	}
	for _, name := range []string{"certificate/certified/quays", "authority%2Fcertified%2Foffice"} {
		if res, err := s.Client.KeepSecretWithResponse(ctx, name, contract.KeepSecretJSONRequestBody{Value: "mine"}); err != nil || res.StatusCode() < 400 {
			t.Errorf("somebody keeps %s: %v, %s", name, err, res.Body)
		}
	}

	if res, err := s.Client.ForgetGroundWithResponse(ctx, "certified", &contract.ForgetGroundParams{}); err != nil || res.StatusCode() != http.StatusNoContent {
		t.Fatalf("%v: %s", err, res.Body)
	}
	declared(t, s, "certified", "certified1", ownAuthority)
	planned(t, s, "certified", contract.Ask{})
	if c := certificates("certified"); c["office"].Fingerprint == first["office"].Fingerprint {
		t.Error("a ground of the name is given the authority of one that was forgotten")
	}
	if c := certificates("beside"); c["office"].Unread != "" {
		t.Errorf("another ground has lost its authority: %+v", c)
	}
}

// Who looks at a ground at the same time is given the same certificates, by the authority that is kept; and one
// that cannot be read is not made anew over the one that is there.
func TestCertificatesAreMadeOnce(t *testing.T) {
	s := servicetest.Start(t)
	servicetest.NewHost(t, "certified2")
	for round := range 4 {
		ground := fmt.Sprintf("together%d", round)
		declared(t, s, ground, "certified2", ownAuthority)
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() { planned(t, s, ground, contract.Ask{}) })
		}
		all.Wait()
		res, err := s.Client.ListCertificatesWithResponse(ctx, ground)
		if err != nil || res.JSON200 == nil {
			t.Fatalf("%v: %s", err, res.Body)
		}
		of := map[string]*x509.Certificate{}
		for _, c := range *res.JSON200 {
			block, _ := pem.Decode([]byte(c.Pem))
			if block == nil {
				t.Fatalf("%s is %+v", c.Name, c)
			}
			if of[c.Name], err = x509.ParseCertificate(block.Bytes); err != nil {
				t.Fatal(err)
			}
		}
		if err := of["quays"].CheckSignatureFrom(of["office"]); err != nil {
			t.Errorf("the certificate is by another authority than is kept: %v", err)
		}
	}

	name := "authority/together0/office"
	was, err := s.Store.Secret(ctx, name)
	if err != nil {
		t.Fatal(err)
	}
	spoilt := append([]byte{was[0] ^ 1}, was[1:]...)
	if err := s.Store.KeepSecret(ctx, name, spoilt); err != nil {
		t.Fatal(err)
	}
	res, err := s.Client.CreatePlanWithResponse(ctx, "together0", nil, contract.Ask{})
	if err != nil || res.StatusCode() != http.StatusConflict || !strings.Contains(string(res.Body), "cannot be read") {
		t.Errorf("%v: with an authority that cannot be read it is %d, %s", err, res.StatusCode(), res.Body)
	}
	if is, err := s.Store.Secret(ctx, name); err != nil || !bytes.Equal(is, spoilt) {
		t.Errorf("%v: an authority that could not be read was made anew", err)
	}
	if err := s.Store.KeepSecret(ctx, name, was); err != nil {
		t.Fatal(err)
	}
	planned(t, s, "together0", contract.Ask{})
}
