package wire

import (
	"testing"
	"time"
)

// What a clock says of a certificate, around each of its moments.
func TestTheTimeOfACertificate(t *testing.T) {
	since := time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC)
	c := SiteCertificate{Since: since, Told: since.AddDate(0, 2, 0), Until: since.AddDate(0, 3, 0)}
	for _, one := range []struct {
		now  time.Time
		says string
	}{
		{c.Since.Add(-time.Nanosecond), CertificateEarly}, {c.Since, ""}, {c.Told.Add(-time.Nanosecond), ""}, {c.Told, CertificateTold},
		{c.Until, CertificateTold}, {c.Until.Add(time.Nanosecond), CertificateOver}, {time.Time{}, CertificateEarly},
	} {
		if is := c.At(one.now); is != one.says {
			t.Errorf("at %s it is %q, and not %q", one.now, is, one.says)
		}
	}
	if is := (SiteCertificate{}).At(since); is != "" {
		t.Errorf("one that is not there is %q", is)
	}
	short := c
	short.Told = since.AddDate(0, 0, -1) // it is told of all its life
	if is := short.At(since); is != CertificateTold {
		t.Errorf("a short one is %q", is)
	}
}
