package near

import (
	"fmt"
	"testing"
)

func TestWhatAMisspeltNameMeant(t *testing.T) {
	for word, want := range map[string]string{"sever": "server", "kye": "key", "Index": "index", "quay": "", "": ""} {
		if got := One(word, []string{"server", "key", "index"}); got != want {
			t.Errorf("%q means %q, not %q", word, got, want)
		}
	}
	if got := fmt.Sprint(Few("ngin", []string{"nginx", "nginx-core", "apache2", "nginx", "engine"})); got != "[nginx nginx-core engine]" {
		t.Errorf("like ngin are %s", got)
	}
	if got := fmt.Sprint(Sorted("publc", []string{"src", "public", "docs"})); got != "[public docs src]" && got != "[public src docs]" {
		t.Errorf("sorted: %s", got)
	}
	for word, want := range map[string]string{"quay3": `did you mean "quay1"?`, "lighthouse": "known here: quay1, pier"} {
		if got := DidYouMean(word, []string{"quay1", "pier"}); got != want {
			t.Errorf("%q: %s", word, got)
		}
	}
}
