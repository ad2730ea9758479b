//go:build linux

package boottest_test

import (
	"encoding/json"
	"fmt"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
	"calmdawn/internal/ring"
)

// TestRound does the whole job on a real machine: five boots, three items of
// known cost switched off, five boots, compare, report. A browser opens the
// report.
func TestRound(t *testing.T) { ring.Measure(t, wholeRound) }

func wholeRound(t testing.TB) {
	const hostile = `<script>document.title = "owned"</script>`
	files := map[string]string{
		"usr/bin/finish": "sleep 2\nsystemctl --no-block poweroff\n",
		"etc/systemd/system/last.service": "[Unit]\nAfter=graphical.target\n[Service]\n" +
			"ExecStart=/bin/sh /usr/bin/finish\n",
	}
	var items []string
	before := ""
	// one after the other: 3.3 s of ready, less what else ready waits for
	for i, wait := range []float64{1.5, 1, 0.8} {
		name := fmt.Sprintf("known-%d.service", i)
		files["etc/systemd/system/"+
			name] = "[Unit]\nDescription=" + hostile + "\n" + before + fmt.Sprintf("[Service]\n"+
			"Type=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sleep %v\n[Install]\n"+
			"WantedBy=multi-user.target\n", wait)
		files["etc/systemd/system/multi-user.target.wants/"+name] = "-> ../" + name
		before = "After=" + name + "\n"
		items = append(items, "service:"+name)
	}
	m := boottest.New(t, files)
	p := program(t)
	boots := func(n int) {
		for range n {
			m.Boot(t)
		}
	}
	boots(6) // the first one does what only a first boot does, and is odd
	calm(t, p, m, append([]string{"disable", "--yes"}, items...)...)
	boots(5)
	var d struct {
		Before, After struct{ Boots []string }
		Milestones    []struct {
			Name, Verdict string
			Difference    struct{ Estimate, Low, High float64 }
		}
		Why struct {
			Reasons           []struct{ Name, Kind string }
			Others, Remainder float64
		}
	}
	ok(t, json.Unmarshal([]byte(calm(t, p, m, "compare", "--json")), &d))
	ready := d.Milestones[0]
	t.Logf("%d and %d boots: %+v, since %+v", len(d.Before.Boots), len(d.After.Boots), ready, d.Why)
	if ready.Name != "ready" || ready.Verdict != "faster" || len(d.Before.Boots) < 5 ||
		len(d.After.Boots) < 4 {
		t.Fatalf("the verdict is %q", ready.Verdict)
	}
	const truth, noise = -3.1, 0.6
	if ready.Difference.Low > truth+noise || ready.Difference.High < truth-noise ||
		abs(ready.Difference.Estimate-truth) > noise {
		t.Errorf("the shift is %+v; the items took about %v s", ready.Difference, -truth)
	}
	gone := 0
	for _, r := range d.Why.Reasons {
		if strings.HasPrefix(r.Name, "known-") && r.Kind == "gone" {
			gone++
		}
	}
	if gone < 3 {
		t.Errorf("the reasons are %+v", d.Why)
	}
	if err := exec.Command(p, "--root", m.Dir, "compare", "--fail-if", "slower").Run(); err != nil {
		t.Errorf("not slower, and yet: %v", err)
	}
	dir := t.TempDir()
	page := filepath.Join(dir, "report.html")
	calm(t, p, m, "report", page, "--by", hostile)
	browse(t, page)
}

// browse has a browser open the report, and looks at what it makes of it.
func browse(t testing.TB, page string) {
	t.Helper()
	if _, err := exec.LookPath("chromium"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal(err)
		}
		t.Skip("no browser is installed; make test installs one")
	}
	dir := filepath.Dir(page)
	run := func(words ...string) string {
		t.Helper()
		words = append([]string{
			"--headless",
			"--no-sandbox",
			"--disable-gpu",
			"--disable-dev-shm-usage",
			"--user-data-dir=" + filepath.Join(dir, "profile"),
			"--virtual-time-budget=3000",
		}, words...)
		cmd := exec.Command("chromium", append(words, "file://"+page)...)
		cmd.Env = append(os.Environ(), "HOME="+dir)
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%v: %v", words, err)
		}
		return string(out)
	}
	dom := run("--dump-dom")
	for _, part := range []string{"<title>Start-up report: ", "sooner than before", "What was " +
		"changed, and how to take it back", "undo 1", "&lt;script&gt;"} {
		if !strings.Contains(dom, part) {
			t.Errorf("the page lacks %q", part)
		}
	}
	if strings.Contains(dom, "<script") || strings.Contains(dom, "<title>owned") {
		t.Error("a machine's text became a part of the page")
	}
	shot := filepath.Join(dir, "page.png")
	run("--window-size=1280,1600", "--screenshot="+shot)
	f, err := os.Open(shot)
	ok(t, err)
	defer f.Close()
	img, err := png.Decode(f)
	ok(t, err)
	colours := map[[3]uint32]bool{}
	for x := 0; x < img.Bounds().Dx(); x += 3 {
		for y := 0; y < img.Bounds().Dy(); y += 3 {
			r, g, b, _ := img.At(x, y).RGBA()
			colours[[3]uint32{r >> 8, g >> 8, b >> 8}] = true
		}
	}
	if !colours[[3]uint32{0x1d, 0x4e, 0x89}] || len(colours) < 20 {
		t.Errorf("the page shows %d colours, and no picture", len(colours))
	}
	paper := filepath.Join(dir, "page.pdf")
	run("--print-to-pdf=" + paper)
	if info, err := os.Stat(paper); err != nil || info.Size() < 10_000 {
		t.Errorf("it does not print: %v", err)
	}
}
