package say

import "testing"

// TestSpreadsheetsRunNothing guards cells at every place at which one may
// begin.
func TestSpreadsheetsRunNothing(t *testing.T) {
	for text, want := range map[string]string{
		"":                 "",
		"plain text":       "plain text",
		"=1+1":             "'=1+1",
		"-x":               "'-x",
		" @SUM(A1)":        " '@SUM(A1)",
		"x;=1+1;y":         "x;'=1+1;y",
		"x; +1|-2":         "x; '+1|'-2",
		"＝1+1":             "'＝1+1",
		"a;＠b":             "a;'＠b",
		"/bin/x --a=b -c":  "/bin/x --a=b -c",
		"A=1 b-c@d, e = f": "A=1 b-c@d, e = f",
	} {
		if got := unrunnable(text); got != want {
			t.Errorf("%q: %q; want %q", text, got, want)
		}
	}
}
