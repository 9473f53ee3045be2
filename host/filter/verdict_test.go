package filter

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"northstake/core/wire"
)

// rulesOfChain is a rule set with one base chain, in the form of nft -j.
func rulesOfChain(chain string, rules ...string) string {
	family, table := "inet", "filter"
	for _, f := range []string{"ip6", "ip", "netdev"} {
		if strings.Contains(chain, `"family":"`+f+`"`) {
			family = f
			break
		}
	}
	out := []string{fmt.Sprintf(`{"chain":{"table":"filter","name":"base",%s}}`, chain)}
	for _, r := range rules {
		out = append(out, fmt.Sprintf(`{"rule":{"family":%q,"table":%q,"chain":"base","expr":%s}}`, family, table, r))
	}
	return `{"nftables":[` + strings.Join(out, ",") + `]}`
}

const (
	dropping  = `"family":"inet","type":"filter","hook":"input","prio":0,"policy":"drop"`
	accepting = `"family":"inet","type":"filter","hook":"input","prio":0,"policy":"accept"`
	dport80   = `{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":80}}`
)

// What keeps a first packet out closes the port, for whatever reason; what cannot be told
// counts against its being open, and is no sure closing.
func TestFiltersOfOthers(t *testing.T) {
	for name, c := range map[string]struct {
		rules        string
		open, surely bool // surely: closed for sure
	}{
		"by source":           {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"saddr"}},"right":"10.0.0.9"}},`+dport80+`,{"drop":null}]`), false, false},
		"by another source":   {rulesOfChain(dropping, `[{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"saddr"}},"right":"10.0.0.9"}},{"accept":null}]`), false, false},
		"by its interface":    {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"meta":{"key":"iifname"}},"right":"eth0"}},`+dport80+`,{"drop":null}]`), false, true},
		"by another one":      {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"meta":{"key":"iifname"}},"right":"wg0"}},`+dport80+`,{"drop":null}]`), true, false},
		"by a pattern":        {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"meta":{"key":"iifname"}},"right":"eth*"}},{"drop":null}]`), false, true},
		"before input":        {rulesOfChain(`"family":"inet","type":"filter","hook":"prerouting","prio":-300,"policy":"accept"`, `[`+dport80+`,{"drop":null}]`), false, true},
		"redirected":          {rulesOfChain(`"family":"ip","type":"nat","hook":"prerouting","prio":-100,"policy":"accept"`, `[`+dport80+`,{"redirect":{"port":8080}}]`), false, true},
		"translated, another": {rulesOfChain(`"family":"ip","type":"nat","hook":"prerouting","prio":-100,"policy":"accept"`, `[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":81}},{"dnat":{"addr":"10.0.0.2"}}]`), true, false},
		"at the device":       {rulesOfChain(`"family":"netdev","dev":"eth0","type":"filter","hook":"ingress","prio":0,"policy":"accept"`, `[`+dport80+`,{"drop":null}]`), false, true},
		"by flags":            {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"&":[{"payload":{"protocol":"tcp","field":"flags"}},{"|":["fin","syn","rst","ack"]}]},"right":"syn"}},`+dport80+`,{"drop":null}]`), false, true},
		"by other flags":      {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"&":[{"payload":{"protocol":"tcp","field":"flags"}},{"|":["fin","syn"]}]},"right":{"|":["fin","syn"]}}},{"drop":null}]`), true, false},
		"by two at once":      {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"concat":[{"meta":{"key":"iifname"}},{"payload":{"protocol":"tcp","field":"dport"}}]},"right":{"set":[{"concat":["eth0",80]}]}}},{"drop":null}]`), false, true},
		"by two, another":     {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"concat":[{"meta":{"key":"iifname"}},{"payload":{"protocol":"tcp","field":"dport"}}]},"right":{"set":[{"concat":["eth0",443]}]}}},{"drop":null}]`), true, false},
		"over IPv6 alone":     {rulesOfChain(`"family":"ip6","type":"filter","hook":"input","prio":0,"policy":"drop"`), false, true},
		"over IPv4 by nfproto, open": {rulesOfChain(dropping, `[{"match":{"op":"==","left":{"meta":{"key":"nfproto"}},"right":"ipv4"}},{"accept":null}]`,
			`[{"match":{"op":"==","left":{"meta":{"key":"nfproto"}},"right":"ipv6"}},`+dport80+`,{"accept":null}]`), true, false},
		"a map of verdicts":       {rulesOfChain(dropping, `[{"vmap":{"key":{"payload":{"protocol":"tcp","field":"dport"}},"data":{"set":[[22,{"accept":null}],[80,{"accept":null}]]}}}]`), true, false},
		"a map of verdicts, drop": {rulesOfChain(accepting, `[{"vmap":{"key":{"payload":{"protocol":"tcp","field":"dport"}},"data":{"set":[[80,{"drop":null}]]}}}]`), false, true},
		"a map of states":         {rulesOfChain(dropping, `[{"vmap":{"key":{"ct":{"key":"state"}},"data":{"set":[["established",{"accept":null}],["invalid",{"drop":null}]]}}}]`, `[`+dport80+`,{"accept":null}]`), true, false},
		"a limit that accepts":    {rulesOfChain(dropping, `[`+dport80+`,{"limit":{"rate":10,"per":"second"}},{"accept":null}]`), false, false},
		"a limit that drops":      {rulesOfChain(accepting, `[`+dport80+`,{"limit":{"rate":10,"per":"second","inv":true}},{"drop":null}]`), false, false},
		"a match of an extension": {rulesOfChain(accepting, `[{"xt":{"type":"match","name":"recent"}},{"drop":null}]`), false, false},
		"logged and counted":      {rulesOfChain(accepting, `[{"counter":{"packets":1,"bytes":2}},{"log":{"prefix":"x"}}]`), true, false},
		"to another address":      {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"daddr"}},"right":"10.88.0.99"}},{"drop":null}]`), true, false},
		"to this address":         {rulesOfChain(accepting, `[{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"daddr"}},"right":{"prefix":{"addr":"10.88.0.0","len":24}}}},{"drop":null}]`), false, true},
		"not from here":           {rulesOfChain(accepting, `[{"match":{"op":"!=","left":{"payload":{"protocol":"ip","field":"saddr"}},"right":{"prefix":{"addr":"10.0.0.0","len":8}}}},{"drop":null}]`), false, false},
	} {
		f, err := ParseRuleset([]byte(c.rules))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		f.here = here{interfaces: []string{"eth0"}, addresses: []netip.Addr{netip.MustParseAddr("10.88.0.11"), netip.MustParseAddr("fd00::11")}, v6: strings.Contains(name, "IPv")}
		by, surely := f.ClosedFor(wire.PortWant{Port: 80, Protocol: "tcp"})
		if (by == "") != c.open || surely != c.surely {
			t.Errorf("%s: closed by %q, surely %t", name, by, surely)
		}
	}
}

// Ports for some networks are closed to all others, or it is said that they are not.
func TestWhoElseIsLetIn(t *testing.T) {
	from := `[{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"saddr"}},"right":{"prefix":{"addr":"10.0.0.0","len":8}}}},` + dport80 + `,{"accept":null}]`
	for name, c := range map[string]struct {
		rules string
		else_ bool
	}{
		"nothing filters":   {`{"nftables":[]}`, true},
		"only they":         {rulesOfChain(dropping, from), false},
		"all, before":       {rulesOfChain(dropping, `[`+dport80+`,{"accept":null}]`, from), true},
		"all, by a range":   {rulesOfChain(dropping, from, `[{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":{"range":[79,90]}}},{"accept":null}]`), true},
		"others, it may be": {rulesOfChain(dropping, from, `[{"xt":{"type":"match"}},{"accept":null}]`), true},
	} {
		f, err := ParseRuleset([]byte(c.rules))
		if err != nil {
			t.Fatal(err)
		}
		if got := f.LetsElse(wire.PortWant{Port: 80, Protocol: "tcp", From: []string{"10.0.0.0/8"}}); got != c.else_ {
			t.Errorf("%s: %t", name, got)
		}
	}
}
