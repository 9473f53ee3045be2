package judge_test

import (
	"fmt"
	"testing"

	"northstake/core/stake"
	"northstake/core/wire"
	"northstake/host/family"
)

// A link that the SSH server reads as it starts has it take that in, when it is made and when it goes;
// another has nothing taken in.
func TestTheSSHServerTakesLinksIn(t *testing.T) {
	kind, err := stake.KindOf("link")
	if err != nil {
		t.Fatal(err)
	}
	for path, wanted := range map[string]string{"/etc/ssh/sshd_config.d/10.conf": "service/ssh reload", "/etc/default/ssh": "service/ssh restart", "/srv/x": ""} {
		want := wire.JSON(wire.LinkWant{Path: wire.Path(path), PointsTo: "/srv/y"})
		in := stake.Input{Stake: stake.Stake{Place: "quay1", Type: "link", Name: path, Want: want}, Traits: wire.Traits{Family: "debian", SSHPort: 22, SSHServer: family.SSHServer("debian")}}
		for what, v := range map[string]func() (stake.Verdict, error){
			"made": func() (stake.Verdict, error) { in.Found = wire.JSON(wire.Entry{}); return kind.Judge(in) },
			"gone": func() (stake.Verdict, error) {
				in.Found = wire.JSON(wire.Entry{Kind: "link", Target: "/srv/y"})
				return kind.Away(in)
			},
		} {
			verdict, err := v()
			got := ""
			for _, n := range verdict.Nudges {
				got += fmt.Sprint(n.Target, " ", n.How)
			}
			if err != nil || got != wanted || len(verdict.Moves) != 1 {
				t.Errorf("%s, %s: told is %q, %v; wanted %q", path, what, got, err, wanted)
			}
		}
	}
}
