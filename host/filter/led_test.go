package filter

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
)

// What is led elsewhere is told with its ports and its chain: rules of an engine and of people, and
// maps; what stays on this host is not led past what guards it.
func TestWhatIsLedElsewhere(t *testing.T) {
	// As nft 1.0.6 tells of iptables -t nat -A NV -p tcp --dport 9095 -j DNAT --to-destination 10.88.7.7:80.
	of := func(family, table, chain, expr string) string {
		return fmt.Sprintf(`{"rule":{"family":%q,"table":%q,"chain":%q,"expr":[%s]}}`, family, table, chain, expr)
	}
	dport := func(right string) string {
		return `{"match":{"op":"==","left":{"payload":{"protocol":"tcp","field":"dport"}},"right":` + right + `}}`
	}
	rules := `{"nftables":[` + strings.Join([]string{
		`{"chain":{"family":"ip","table":"nat","name":"PREROUTING","type":"nat","hook":"prerouting","prio":-100,"policy":"accept"}}`,
		`{"chain":{"family":"ip","table":"nat","name":"OUTPUT","type":"nat","hook":"output","prio":-100,"policy":"accept"}}`,
		`{"chain":{"family":"ip","table":"nat","name":"NV"}}`,
		`{"chain":{"family":"ip","table":"nat","name":"NOBODYS"}}`,
		`{"chain":{"family":"ip","table":"mine","name":"pre","type":"nat","hook":"prerouting","prio":-100,"policy":"accept"}}`,
		`{"chain":{"family":"ip","table":"mine","name":"on"}}`,
		of("ip", "nat", "PREROUTING", `{"xt":{"type":"match","name":"addrtype"}},{"counter":{"packets":0,"bytes":0}},{"jump":{"target":"NV"}}`),
		of("ip", "nat", "OUTPUT", dport("7001")+`,{"xt":{"type":"target","name":"DNAT"}}`),
		of("ip", "nat", "NV", dport("9095")+`,{"counter":{"packets":0,"bytes":0}},{"xt":{"type":"target","name":"DNAT"}}`),
		of("ip", "nat", "NV", dport("9096")+`,{"xt":{"type":"target","name":"MASQUERADE"}}`),
		of("ip", "nat", "NOBODYS", dport("7002")+`,{"xt":{"type":"target","name":"DNAT"}}`),
		of("ip", "mine", "pre", dport(`{"set":[8096,{"range":[8100,8105]}]}`)+`,{"dnat":{"addr":"10.9.9.9","port":80}}`),
		of("ip", "mine", "pre", dport("81")+`,{"redirect":{"port":80}}`),
		of("ip", "mine", "pre", dport("82")+`,{"dnat":{"addr":"10.0.0.1","port":80}}`),
		of("ip", "mine", "pre", `{"dnat":{"addr":{"map":{"key":{"payload":{"protocol":"tcp","field":"dport"}},"data":{"set":[[8200,"10.1.1.1"],[8201,"10.1.1.2"]]}}}}}`),
		of("ip", "mine", "pre", `{"vmap":{"key":{"payload":{"protocol":"th","field":"dport"}},"data":{"set":[[53,{"goto":{"target":"on"}}],[54,{"accept":null}]]}}}`),
		of("ip", "mine", "on", `{"dnat":{"addr":"10.9.9.8"}}`),
		of("ip", "mine", "pre", `{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"daddr"}},"right":"10.0.0.1"}},{"dnat":{"addr":"10.9.9.7"}}`),
	}, ",") + `]}`
	f, err := ParseRuleset([]byte(rules))
	if err != nil {
		t.Fatal(err)
	}
	f.here.addresses = []netip.Addr{netip.MustParseAddr("10.0.0.1")}
	var got []string
	for _, l := range f.Led() {
		var ports []string
		for _, p := range l.Ports {
			ports = append(ports, p.Words())
		}
		got = append(got, strings.Join(ports, " ")+" by "+l.By)
	}
	want := `9095/tcp by table ip nat, chain NV
8096/tcp 8100-8105/tcp by table ip mine, chain pre
8200/tcp 8201/tcp by table ip mine, chain pre
53/tcp 53/udp by table ip mine, chain on
 by table ip mine, chain pre`
	if strings.Join(got, "\n") != want {
		t.Errorf("led are\n%s", strings.Join(got, "\n"))
	}
}
