package stage

import (
	"fmt"
)

// Listen makes the host listen on ports.
func (g *Ground) Listen(host string, ports ...int) {
	g.T.Helper()
	for _, p := range ports {
		g.On(host, fmt.Sprintf("systemd-run --quiet --collect --unit=other%[1]d perl -MIO::Socket -e 'my $s=IO::Socket::INET->new(LocalPort=>%[1]d,Listen=>5,ReuseAddr=>1); while(my $c=$s->accept){close $c}'; for i in $(seq 200); do ss -ltn | grep -q ':%[1]d ' && break; sleep 0.05; done", p))
	}
}
