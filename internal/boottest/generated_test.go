//go:build linux

package boottest_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
)

// makesUnits is a generator that makes units of its own: an instance of a
// template, and one that outranks what an administrator sets up.
const makesUnits = `#!/bin/sh
unit() { printf '[Service]\nType=oneshot\nExecStart=/usr/bin/mark %s\n' $2 > $1/$2.service; }
unit $1 made
unit $1 other
unit $2 early
for d in $1 $2; do mkdir -p $d/multi-user.target.wants; done
ln -s $1/made.service $1/other.service $1/multi-user.target.wants/
ln -s /usr/lib/systemd/system/ride@.service $1/multi-user.target.wants/ride@one.service
ln -s $2/early.service $2/multi-user.target.wants/
`

// TestWhatGeneratorsMake has a running machine list what its generators made,
// and switch it off: the next boot, which makes it anew, does not launch it.
func TestWhatGeneratorsMake(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, map[string]string{
		"usr/lib/systemd/system-generators/maker": makesUnits,
		"usr/lib/systemd/system/ride@.service":    marked("ride"),
		"usr/bin/live": "#!/bin/sh\n{\n" +
			"calmdawn list --all --json\ncalmdawn show ride@one\n" +
			"calmdawn drift --keep\n" +
			"calmdawn disable --yes --guard off service:made.service service:ride@one.service " +
			"service:early.service\ncalmdawn drift\n} > /share/said 2>&1\n",
		"etc/systemd/system/live.service": "[Unit]\nAfter=multi-user.target\n[Service]\n" +
			"Type=oneshot\nEnvironment=LC_ALL=C.UTF-8\nExecStart=/bin/sh /usr/bin/live\n",
		"etc/systemd/system/graphical.target.wants/live.service": "-> ../live.service",
	})
	p := program(t)
	m.Install(t, p)
	ok(t, os.Chmod(filepath.Join(m.Dir, "usr/lib/systemd/system-generators/maker"), 0o755))
	all := []string{"made", "ride", "early", "other"}
	if wrong := boottest.Once(m.Boot(t), all); wrong != "" {
		t.Fatal(wrong)
	}
	said := m.Shared(t, "said")
	for _, part := range []string{
		`"generated": true`, "only the running machine shows it", "Done, as change 1",
	} {
		if !strings.Contains(said, part) {
			t.Errorf("without %q:\n%s", part, said)
		}
	}
	// seen from outside nothing that the running machine alone shows is gone
	list := calm(t, p, m, "list", "--all", "--json")
	if strings.Contains(list, `"generated"`) || strings.Contains(list, "other.service") {
		t.Errorf("a disk shows what was made at a boot:\n%s", list)
	}
	if drift := calm(t, p, m, "drift"); strings.Contains(drift, "other.service") ||
		strings.Contains(drift, "gone") {
		t.Error(drift)
	}
	ok(t, os.WriteFile(filepath.Join(m.Dir, "usr/bin/live"), nil, 0o755))
	if wrong := boottest.Once(m.Boot(t), []string{"other"}); wrong != "" {
		t.Errorf("switched off: %s", wrong)
	}
	calm(t, p, m, "undo", "--all", "--yes")
	if wrong := boottest.Once(m.Boot(t), all); wrong != "" {
		t.Errorf("taken back: %s", wrong)
	}
}
