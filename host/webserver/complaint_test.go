package webserver

import "testing"

// The Apache server's words are understood too: with what is wrong on the same
// line or the next, and through files that include one another.
func TestWhatHttpdSaysIsUnderstood(t *testing.T) {
	for said, want := range map[string]complaint{
		"AH00526: Syntax error on line 3 of /etc/httpd/conf.d/s.conf:\nInvalid command 'Harbour', perhaps misspelled\n": {"Invalid command 'Harbour', perhaps misspelled", "/etc/httpd/conf.d/s.conf", 3},
		"httpd: Syntax error on line 56 of /etc/httpd/conf/httpd.conf: Syntax error on line 7 of /etc/httpd/conf.d/s.conf: Expected </Directory> but saw </VirtualHost>\n": {
			"Expected </Directory> but saw </VirtualHost>", "/etc/httpd/conf.d/s.conf", 7},
		"AH00558: httpd: Could not reliably determine the server's fully qualified domain name. Set the 'ServerName' directive\nAH00014: Configuration check failed\n": {"Configuration check failed", "", 0},
	} {
		if got, ok := httpdComplaint(said); !ok || got != want {
			t.Errorf("%q becomes %+v", said, got)
		}
	}
	if got, ok := httpdComplaint("Syntax OK\n"); ok {
		t.Errorf("a good word becomes %+v", got)
	}
}
