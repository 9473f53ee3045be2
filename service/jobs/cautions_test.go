package jobs

import (
	"context"
	"errors"
	"net"
	"strings"
	"testing"
)

// A name that leads elsewhere, or nowhere, is named with what it leads to; one that could not
// be asked for, or that no server has, is not.
func TestNamesThatLeadElsewhere(t *testing.T) {
	zone := map[string][]string{"right.ferries.org": {"192.0.2.7", "10.0.0.1"}, "wrong.ferries.org": {"203.0.113.5"}, "six.ferries.org": {"2001:db8::1"}, "host.ferries.org": {"192.0.2.99"}, "vianame.ferries.org": {"192.0.2.99"}}
	lookup := func(_ context.Context, name string) ([]string, error) {
		switch found := zone[name]; {
		case name == "slow.ferries.org":
			return nil, errors.New("no answer")
		case found == nil:
			return nil, &net.DNSError{IsNotFound: true}
		default:
			return found, nil
		}
	}
	names := []string{"right.ferries.org", "wrong.ferries.org", "six.ferries.org", "none.ferries.org", "slow.ferries.org", "tides.saltmarsh.test", "*.ferries.org", "vianame.ferries.org"}
	got, answered := misled(context.Background(), lookup, "quay1", names, []string{"10.0.0.1", "2001:db8::1", "host.ferries.org"})
	if !answered {
		t.Error("there was no answer")
	}
	if _, answered = misled(context.Background(), lookup, "quay1", []string{"slow.ferries.org"}, []string{"10.0.0.1"}); answered {
		t.Error("a resolver that says nothing answered")
	}
	if len(got) != 2 || !strings.Contains(got[0].What, "name none.ferries.org does not resolve, asked of this service's resolver") || !strings.Contains(got[1].What, "name wrong.ferries.org resolves to 203.0.113.5, and quay1 is at 10.0.0.1") {
		t.Errorf("%+v", got)
	}
}
