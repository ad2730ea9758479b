//go:build linux

package boottest_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"calmdawn/internal/boottest"
)

const (
	vendor = "usr/lib/systemd/system/"
	admin  = "etc/systemd/system/"
	wants  = admin + "multi-user.target.wants/"
	users  = "etc/systemd/user/"
	hers   = "home/maria/.config/"
	dead   = "[Service]\nType=oneshot\nExecStart=/opt/gone\n"
)

// on makes files for a unit that marks its name and is wanted by the goal, with
// more lines for its [Unit] section.
func on(name, more string) map[string]string {
	return map[string]string{
		vendor + name + ".service": "[Unit]\n" + more + "\n" + marked(name),
		wants + name + ".service":  "-> /" + vendor + name + ".service",
	}
}

func entry(name, more string) string {
	return "[Desktop Entry]\nType=Application\nName=N\nExec=/usr/bin/mark " + name + "\n" + more
}

// hard is a machine on which each file puts a question to the survey; what was
// learnt from real boots, line by line.
func hard() map[string]string {
	all := map[string]string{
		// What pulls in.
		admin + "masked.service":     "-> /dev/null",
		vendor + "masked.service":    marked("masked"),
		wants + "masked.service":     "-> /x",
		vendor + "assertive.service": "[Unit]\nAssertPathExists=/nowhere\n" + marked("assertive"),
		vendor + "doubtful.service":  "[Unit]\nConditionPathExists=/nowhere\n" + marked("doubtful"),
		vendor + "deadone.service":   dead,
		vendor + "deadsimple.service": "[Service]\n" +
			"ExecStart=/opt/gone\n",
		vendor + "skipped.target": "[Unit]\nConditionPathExists=/nowhere\n" +
			"Wants=ofskipped.service\n",
		wants + "skipped.target":                           "-> /x",
		vendor + "ofskipped.service":                       marked("ofskipped"),
		vendor + "passive.service":                         marked("passive"),
		admin + "passive.target.wants/passive.service":     "-> /x",
		vendor + "passive.target":                          "[Unit]\n",
		vendor + "dangling.service":                        marked("dangling"),
		wants + "dangling.service":                         "-> /nowhere/at/all",
		vendor + "plainfile.service":                       marked("plainfile"),
		wants + "plainfile.service":                        "no link",
		vendor + "hidden.service":                          marked("hidden"),
		vendor + "multi-user.target.wants/hidden.service":  "-> ../hidden.service",
		wants + "hidden.service":                           "no link",
		vendor + "nulled.service":                          marked("nulled"),
		vendor + "multi-user.target.wants/nulled.service":  "-> ../nulled.service",
		wants + "nulled.service":                           "-> /dev/null",
		vendor + "level3.service":                          marked("level3"),
		admin + "runlevel3.target.wants/level3.service":    "-> /x",
		vendor + "bydefault.service":                       marked("bydefault"),
		admin + "default.target.wants/bydefault.service":   "-> /x",
		vendor + "infolder.service":                        marked("infolder"),
		"opt/wanted/infolder.service":                      "-> /x",
		admin + "basic.target.wants":                       "-> /opt/wanted",
		"opt/outside.service":                              marked("outside"),
		wants + "outside.service":                          "-> /opt/outside.service",
		"opt/linked.service":                               marked("linkedin"),
		admin + "linkedin.service":                         "-> /opt/linked.service",
		wants + "linkedin.service":                         "-> ../linkedin.service",
		vendor + "uphold.service":                          marked("uphold"),
		admin + "multi-user.target.upholds/uphold.service": "-> /x",
		vendor +
			"alsoed.service": marked("alsoed") + "[Install]\nWantedBy=multi-user.target\n",
		vendor + "temp@.service":                     marked("temp-%i"),
		vendor + "inst@.service":                     marked("inst-%i"),
		wants + "inst@7.service":                     "-> /x",
		vendor + "inst@.service.wants/temp@.service": "-> ../temp@.service",
		vendor +
			"bare@.service": marked("bare-%i") + "[Install]\nDefaultInstance=d\n",
		wants + "bare@.service":               "-> /x",
		"run/systemd/system/volatile.service": marked("volatile"),
		"run/systemd/system/multi-user.target.wants/volatile.service": "-> " +
			"../volatile.service",
		"etc/systemd/system.control/control.service": marked("control"),
		"etc/systemd/system.control/multi-user.target.wants/control.service": "-> " +
			"../control.service",
		"usr/local/lib/systemd/system/local.service":                         marked("local"),
		"usr/local/lib/systemd/system/multi-user.target.wants/local.service": "-> ../local.service",

		// Drop-ins.
		vendor + "drop.service": marked("drop-own"),
		wants + "drop.service":  "-> /x",
		vendor + "drop.service.d/x.conf": "[Service]\nExecStart=\nExecStart=/usr/bin/mark " +
			"drop-vendor\n",
		admin + "drop.service.d/x.conf": "[Service]\nExecStart=\nExecStart=/usr/bin/mark " +
			"drop-admin\n",
		vendor + "a-b-c.service": marked("abc-own"),
		wants + "a-b-c.service":  "-> /x",
		admin + "a-b-.service.d/y.conf": "[Service]\nExecStart=\nExecStart=/usr/bin/mark " +
			"abc-prefix\n",
		admin + "a-b-c.service.d/y.conf": "[Service]\nExecStart=\nExecStart=/usr/bin/mark " +
			"abc-name\n",
		vendor + "dt@.service": marked("dt-own"),
		wants + "dt@x.service": "-> /x",
		admin + "dt@.service.d/z.conf": "[Service]\nExecStart=\nExecStart=/usr/bin/mark " +
			"dt-template\n",
		admin + "dt@x.service.d/z.conf": "[Service]\nExecStart=\nExecStart=/usr/bin/mark " +
			"dt-instance\n",
		admin + "dropalone.service.d/x.conf": marked("dropalone"),
		wants + "dropalone.service":          "-> /x",
		admin + "wanter.service.d/x.conf":    "[Unit]\nWants=\n",
		vendor + "wanted.service":            marked("wanted"),
		admin + "freed.service.d/x.conf":     "[Unit]\nConditionPathExists=\n",

		// Texts.
		vendor + "bom.service":          "\ufeff" + marked("bom"),
		wants + "bom.service":           "-> /x",
		vendor + "crlf.service":         strings.ReplaceAll(marked("crlf"), "\n", "\r\n"),
		wants + "crlf.service":          "-> /x",
		vendor + "latin.service":        marked("latin") + "X-Note=caf\xe9\n",
		wants + "latin.service":         "-> /x",
		vendor + "latincomment.service": "# caf\xe9\n" + marked("latincomment"),
		wants + "latincomment.service":  "-> /x",
		vendor + "section.service":      marked("section") + "[Broken\n",
		wants + "section.service":       "-> /x",
		vendor + "several.service": "[Service]\nExecStart=/usr/bin/mark several-1\n" +
			"ExecStart=/usr/bin/mark several-2\n",
		wants + "several.service":    "-> /x",
		vendor + "noexec.service":    "[Service]\nType=oneshot\n",
		wants + "noexec.service":     "-> /x",
		vendor + "quoted.service":    marked("quoted"),
		vendor + "comma1.service":    marked("comma1"),
		vendor + "comma2.service":    marked("comma2"),
		vendor + "continued.service": marked("continued"),
		vendor + "swallowed.service": marked("swallowed"),
		vendor + "fussy.target": "[Unit]\nWants=\"quoted.service\" " +
			"comma1.service,comma2.service\nWants=\\\n# a comment between\n continued.service\n" +
			"Description=ends with \\\nWants=swallowed.service\n",
		wants + "fussy.target":      "-> /x",
		vendor + "barename.service": "[Service]\nType=oneshot\nExecStart=mark barename\n",
		wants + "barename.service":  "-> /x",
		vendor + "prefails.service": "[Service]\nType=oneshot\nExecStartPre=/opt/gone\n" +
			"ExecStart=/usr/bin/mark prefails\n",
		wants + "prefails.service": "-> /x",
		vendor + "preforgiven.service": "[Service]\nType=oneshot\nExecStartPre=-/opt/gone\n" +
			"ExecStart=/usr/bin/mark preforgiven\n",
		wants + "preforgiven.service": "-> /x",
		vendor + "shelled.service": "[Service]\nType=oneshot\nExecStart=/bin/sh -c " +
			"'/usr/bin/mark shelled'\n",
		wants + "shelled.service": "-> /x",
		vendor + "enved.service": "[Service]\nType=oneshot\nExecStart=/usr/bin/env A=b " +
			"/usr/bin/mark enved\n",
		wants + "enved.service": "-> /x",
		vendor + "envgone.service": "[Service]\nType=oneshot\nExecStart=/usr/bin/env /opt/gone " +
			"mark envgone\n",
		wants + "envgone.service": "-> /x",

		// A proper unit below something odd in /etc.
		vendor + "overfolder.service":   marked("overfolder"),
		wants + "overfolder.service":    "-> /x",
		admin + "overfolder.service/x":  "",
		vendor + "overself.service":     marked("overself"),
		wants + "overself.service":      "-> /x",
		admin + "overself.service":      "-> overself.service",
		vendor + "overdangling.service": marked("overdangling"),
		wants + "overdangling.service":  "-> /x",
		admin + "overdangling.service":  "-> /nowhere",
		vendor + "overempty.service":    marked("overempty"),
		wants + "overempty.service":     "-> /x",
		admin + "overempty.service":     "",
		vendor + "overfifo.service":     marked("overfifo"),
		wants + "overfifo.service":      "-> /x",

		// Paths and timers.
		vendor + "seen.path":      "[Path]\nPathExists=/etc/passwd\n",
		wants + "seen.path":       "-> /x",
		vendor + "seen.service":   marked("seen"),
		vendor + "unseen.path":    "[Path]\nPathExists=/nowhere\n",
		wants + "unseen.path":     "-> /x",
		vendor + "unseen.service": marked("unseen"),
		vendor + "globbed.path": "[Path]\nPathExistsGlob=/etc/pass*\n" +
			"Unit=other-name.service\n",
		wants + "globbed.path":        "-> /x",
		vendor + "other-name.service": marked("other-name"),
		vendor + "changed.path":       "[Path]\nPathChanged=/etc/passwd\n",
		wants + "changed.path":        "-> /x",
		vendor + "changed.service":    marked("changed"),
		vendor + "filled.path":        "[Path]\nDirectoryNotEmpty=/etc\n",
		wants + "filled.path":         "-> /x",
		vendor + "filled.service":     marked("filled"),
		vendor + "lonely.service":     marked("lonely") + "[Install]\nWantedBy=multi-user.target\n",

		// Cron: each file is taken whole or not at all.
		"etc/cron.d/good":      "SHELL=/bin/sh\n@reboot root /usr/bin/mark cron-good\n",
		"etc/cron.d/nonewline": "@reboot root /usr/bin/mark cron-nonewline",
		"etc/cron.d/upper": "@REBOOT root /usr/bin/mark cron-upper\n@reboot root /usr/bin/mark " +
			"cron-upper2\n",
		"etc/cron.d/nouser": "@reboot nobodyhere /usr/bin/mark cron-nouser\n",
		"etc/cron.d/badfield": "@reboot root /usr/bin/mark cron-badfield\n61 * * * * root " +
			"/bin/true\n",
		"etc/cron.d/dotted.name": "@reboot root /usr/bin/mark cron-dotted\n",
		"etc/cron.d/writable":    "@reboot root /usr/bin/mark cron-writable\n",
		"etc/cron.d/crlf":        "@reboot root /usr/bin/mark cron-crlf \r\n",
		"etc/cron.d/linkedtable": "-> /opt/table",
		"opt/table": "@reboot root /usr/bin/mark " +
			"cron-linked\n",
		"etc/cron.d/dash":               "-@reboot root /usr/bin/mark cron-dash\n",
		"var/spool/cron/crontabs/maria": "@reboot /usr/bin/mark cron-maria\n",
		"var/spool/cron/crontabs/root":  "@reboot /usr/bin/mark cron-root\n",
		"var/spool/cron/crontabs/ghost": "@reboot /usr/bin/mark cron-ghost\n",

		// Users: maria's manager runs from the boot on.
		users + "all.service":                           marked("u-all"),
		users + "default.target.wants/all.service":      "-> /x",
		users + "unmasked.service":                      marked("u-nulled"),
		users + "default.target.wants/unmasked.service": "-> /x",
		hers + "systemd/user/unmasked.service":          "-> /dev/null",
		users + "replaced.service":                      marked("u-theirs"),
		users + "default.target.wants/replaced.service": "-> /x",
		hers + "systemd/user/replaced.service":          marked("u-hers"),
		users + "dropped.service":                       marked("u-plain"),
		users + "default.target.wants/dropped.service":  "-> /x",
		hers + "systemd/user/dropped.service.d/x.conf": "[Service]\nExecStart=\n" +
			"ExecStart=/usr/bin/mark u-dropped\n",
		hers + "systemd/user/own.service":                      marked("u-own"),
		hers + "systemd/user/default.target.wants/own.service": "-> ../own.service",
		hers + "systemd/user/idle.service": marked("u-idle") + "[Install]\n" +
			"WantedBy=default.target\n",
		users + "graphic.service":                                marked("u-graphic"),
		users + "graphical-session.target.wants/graphic.service": "-> /x",

		// Entries of the desktop.
		"etc/xdg/autostart/plain.desktop": entry("e-plain", ""),
		"etc/xdg/autostart/off.desktop":   entry("e-off", "Hidden=true\n"),
		"etc/xdg/autostart/twice.desktop": entry("e-first", "Exec=/usr/bin/mark e-second\n"+
			"Hidden=true\nHidden=false\n"),
		"etc/xdg/autostart/perhaps.desktop": entry("e-perhaps", "Hidden=perhaps\n"),
		"etc/xdg/autostart/link.desktop": "[Desktop Entry]\nType=Link\nExec=/usr/bin/mark " +
			"e-link\n",
		"etc/xdg/autostart/typeless.desktop": "[Desktop Entry]\nExec=/usr/bin/mark e-typeless\n",
		"etc/xdg/autostart/nameless.desktop": "[Desktop Entry]\nType=Application\n" +
			"Exec=/usr/bin/mark e-nameless\n",
		"etc/xdg/autostart/shown.desktop": entry("e-shown",
			"NoDisplay=true\nTerminal=false\n"),
		"etc/xdg/autostart/only.desktop": entry("e-only",
			"OnlyShowIn=Lark;\n"),
		"etc/xdg/autostart/not.desktop": entry("e-not", "NotShowIn=Lark;\n"),
		"etc/xdg/autostart/try.desktop": entry("e-try",
			"TryExec=/opt/gone\n"),
		"etc/xdg/autostart/gnomeoff.desktop": entry("e-gnomeoff",
			"X-GNOME-Autostart-enabled=false\n"),
		"etc/xdg/autostart/phase.desktop": entry("e-phase",
			"X-GNOME-Autostart-Phase=Applications\n"),
		"etc/xdg/autostart/hers.desktop":                       entry("e-all", ""),
		hers + "autostart/hers.desktop":                        entry("e-hers", ""),
		"etc/xdg/autostart/emptied.desktop":                    entry("e-emptied", ""),
		hers + "autostart/emptied.desktop":                     "",
		"etc/xdg/autostart/nulled.desktop":                     entry("e-nulled", ""),
		hers + "autostart/nulled.desktop":                      "-> /dev/null",
		"etc/xdg/autostart/dangling.desktop":                   entry("e-dangling", ""),
		hers + "autostart/dangling.desktop":                    "-> /nowhere",
		"etc/xdg/autostart/folder.desktop":                     entry("e-folder", ""),
		hers + "autostart/folder.desktop/x":                    "",
		"etc/xdg/autostart/mask-ed.desktop":                    entry("e-masked", ""),
		hers + `systemd/user/app-mask\x2ded@autostart.service`: "-> /dev/null",

		// teo logs in once, in a shell.
		vendor + "logsin.service": "[Unit]\nAfter=multi-user.target user@1000.service\n" +
			"[Service]\nExecStart=/bin/su -l teo -c 'sleep 2'\n",
		"etc/systemd/system/graphical.target.wants/logsin.service": "-> /x",
		"home/teo/.profile": "/usr/bin/mark s-own &\nif false; then\n  /usr/bin/mark s-never &\n" +
			"fi\ntrue && true\n# /usr/bin/mark s-comment &\n",
		"etc/profile.d/extra.sh":                                         "/usr/bin/mark s-all &\n",
		"home/teo/.config/systemd/user/his.service":                      marked("u-his"),
		"home/teo/.config/systemd/user/default.target.wants/his.service": "-> ../his.service",
		"home/teo/.config/systemd/user/soon.timer": "[Timer]\n" +
			"OnActiveSec=0\nAccuracySec=1us\n",
		"home/teo/.config/systemd/user/soon.service":                   marked("u-soon"),
		"home/teo/.config/systemd/user/timers.target.wants/soon.timer": "-> ../soon.timer",

		// Old scripts.
		"etc/init.d/scripted":          initScript("scripted"),
		"etc/rc3.d/S05scripted":        "-> /nowhere",
		"etc/rc3.d/S05othername":       "-> ../init.d/scripted",
		"etc/init.d/stopped":           initScript("stopped"),
		"etc/rc2.d/K05stopped":         "-> ../init.d/stopped",
		"etc/init.d/early":             initScript("early"),
		"etc/rcS.d/S01early":           "-> ../init.d/early",
		"etc/init.d/native":            initScript("native-script"),
		"etc/rc2.d/S01native":          "-> ../init.d/native",
		vendor + "native.service":      marked("native-unit"),
		"etc/init.d/notexec":           initScript("notexec"),
		"etc/rc2.d/S01notexec":         "-> ../init.d/notexec",
		"etc/init.d/wantedscript":      initScript("wantedscript"),
		wants + "wantedscript.service": "-> /x",
		"etc/rc.local":                 "#!/bin/sh\n/usr/bin/mark rclocal\n",
	}
	for _, p := range []string{
		"autostart/hers.desktop",
		"autostart/emptied.desktop",
		`systemd/user/app-mask\x2ded@autostart.service`,
	} {
		// an entry of the machine is on as long as one user has none in its
		// place
		all["home/teo/.config/"+p] = all[hers+p]
	}
	for name, more := range map[string]string{
		"needsmissing": "Requires=nope.service",
		"needsmasked": "Requires=masked.service\n" +
			"After=masked.service",
		"needsassert":     "Requires=assertive.service\nAfter=assertive.service",
		"needsdoubtful":   "Requires=doubtful.service\nAfter=doubtful.service",
		"needsdead":       "Requires=deadone.service\nAfter=deadone.service",
		"needsdeadsimple": "Requires=deadsimple.service\nAfter=deadsimple.service",
		"needsdeadloose":  "Requires=deadone.service",
		"wanter":          "Wants=wanted.service",
		"freed":           "ConditionPathExists=/nowhere",
		"condholds":       "ConditionPathExists=/etc/passwd",
		"condnot":         "ConditionPathExists=!/etc/passwd",
		"condor":          "ConditionPathExists=|/nowhere\nConditionPathExists=|/etc/passwd",
		"condnone":        "ConditionPathExists=|/nowhere\nConditionPathExists=|/nowhere2",
		"condreset":       "ConditionPathExists=/nowhere\nConditionHost=",
		"condglob":        "ConditionPathExistsGlob=/etc/pass*",
		"conddir":         "ConditionPathIsDirectory=/etc/passwd",
		"condfull":        "ConditionDirectoryNotEmpty=/etc",
		"condexec":        "ConditionFileIsExecutable=/etc/passwd",
		"condrelative":    "ConditionPathExists=nowhere",
		"condodd":         "ConditionWeather=fine",
		"asserts":         "AssertFileNotEmpty=/etc/passwd",
	} {
		maps.Copy(all, on(name, more))
	}
	for name, timer := range map[string]string{
		"tm-once":    "OnActiveSec=0",
		"tm-soon":    "OnActiveSec=1",
		"tm-boot":    "OnBootSec=1s",
		"tm-far":     "OnActiveSec=1h",
		"tm-again":   "OnUnitActiveSec=1s",
		"tm-past":    "OnCalendar=2001-01-01",
		"tm-catchup": "OnCalendar=daily\nPersistent=true",
		"tm-caughtup": "OnCalendar=daily\n" +
			"Persistent=true",
		"tm-empty":     "AccuracySec=1s",
		"tm-reset":     "OnActiveSec=0\nOnCalendar=",
		"tm-masked":    "OnActiveSec=0",
		"tm-missing":   "OnActiveSec=0",
		"tm-pastcatch": "OnCalendar=2020-01-01\nPersistent=true",
	} {
		all[vendor+name+".timer"] = "[Timer]\nAccuracySec=1us\n" + timer + "\n"
		all[wants+name+".timer"] = "-> /x"
		if name != "tm-missing" {
			all[vendor+name+".service"] = marked(name)
		}
	}
	all[admin+"tm-masked.service"] = "-> /dev/null"
	all["var/lib/systemd/timers/stamp-tm-catchup.timer"] = ""
	all["var/lib/systemd/timers/stamp-tm-pastcatch.timer"] = ""
	return all
}

func initScript(name string) string {
	return "#!/bin/sh\n[ \"$1\" != start ] || /usr/bin/mark " + name + "\n"
}

var markLine = regexp.MustCompile(`/?mark["']? ([a-z0-9-]+)`)

// TestTheSurveyAgreesWithARealBoot surveys the machine from its disk, boots it,
// and holds the one against the other.
func TestTheSurveyAgreesWithARealBoot(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, hard())
	old := unix.NsecToTimespec(1262304000e9) // 2010
	for _, p := range []string{"stamp-tm-catchup.timer", "stamp-tm-pastcatch.timer"} {
		ok(t, unix.UtimesNanoAt(unix.AT_FDCWD, filepath.Join(m.Dir, "var/lib/systemd/timers",
			p), []unix.Timespec{old, old}, 0))
	}
	ok(t, unix.Mkfifo(filepath.Join(m.Dir, admin+"overfifo.service"), 0o644))
	ok(t, os.Chmod(filepath.Join(m.Dir, "etc/cron.d/writable"), 0o666))
	ok(t, os.Chown(filepath.Join(m.Dir, "var/spool/cron/crontabs/maria"), 1000, 1000))
	for _, p := range []string{"maria", "root", "ghost"} {
		ok(t, os.Chmod(filepath.Join(m.Dir, "var/spool/cron/crontabs", p), 0o600))
	}
	for _, p := range []string{
		"init.d/scripted", "init.d/stopped", "init.d/early", "init.d/native",
		"init.d/wantedscript", "rc.local",
	} {
		ok(t, os.Chmod(filepath.Join(m.Dir, "etc", p), 0o755))
	}

	expected, said := surveyed(t, m)
	// What starts with a login is told apart from what starts with the boot.
	for name, when := range map[string]string{
		"u-all":      "boot",
		"u-his":      "login",
		"u-own":      "boot",
		"s-own":      "login",
		"tm-soon":    "later",
		"tm-once":    "boot",
		"tm-catchup": "boot",
		"e-plain":    "login",
		"cron-good":  "boot",
	} {
		if !strings.Contains(said[name], ", "+when+" (") {
			t.Errorf("%s: the survey says %s; want %s", name, said[name], when)
		}
	}
	holdAgainst(t, m, expected, said)
	if len(expected) < 60 || len(said) < 105 {
		t.Errorf("only %d marks were expected, of %d that the survey knows", len(expected),
			len(said))
	}
}

// later are the timers that are armed, and go off long after the boot.
var later = []string{"tm-far", "tm-caughtup", "tm-century"}

// surveyed returns the marks that the survey expects a boot to leave, and what
// it says of each mark that it knows.
func surveyed(t testing.TB, m *boottest.Machine) (expected []string, said map[string]string) {
	t.Helper()
	var list struct {
		Items []struct{ ID, State, When, Command, File, Why, Fires string }
	}
	if err := json.Unmarshal(run(t, m, "list", "--all", "--json"), &list); err != nil {
		t.Fatal(err)
	}
	said = map[string]string{}
	for _, it := range list.Items {
		name := ""
		if found := markLine.FindStringSubmatch(it.Command); found != nil {
			name = found[1]
		} else if strings.HasPrefix(it.File, "/etc/init.d/") {
			name = filepath.Base(it.File)
		} else if it.ID == "service:rc-local.service" {
			name = "rclocal"
		}
		if name == "" || strings.HasSuffix(it.ID, "@root") {
			continue
		}
		says := fmt.Sprintf("%s is %s, %s (%s%s)", it.ID, it.State, it.When, it.Why, it.Fires)
		if it.State == "on" && !slices.Contains(later, name) &&
			!slices.Contains(expected, name) {
			expected = append(expected, name)
			said[name] = says
		} else if said[name] == "" {
			said[name] = says
		}
	}
	return expected, said
}

// agrees surveys a machine and holds what that expects against a boot; it
// returns what the survey says of each mark.
func agrees(t testing.TB, m *boottest.Machine) (said map[string]string) {
	t.Helper()
	expected, said := surveyed(t, m)
	holdAgainst(t, m, expected, said)
	return said
}

// holdAgainst boots a machine and holds what a survey expects against it.
//
// A start may fail for want of something that the computer lacks just then. If
// nothing but marks is missing, a second boot has to bring these: a fault of
// ours comes again.
func holdAgainst(t testing.TB, m *boottest.Machine, expected []string, said map[string]string) {
	t.Helper()
	missing, wrong := differences(m.Boot(t), expected, said)
	if len(missing) > 0 && len(missing) == len(wrong) {
		t.Logf("once more: %q", wrong)
		for _, name := range missing {
			t.Log(m.Says(t, name))
		}
		again := m.Boot(t)
		wrong = slices.DeleteFunc(wrong, func(line string) bool {
			name, _, _ := strings.Cut(line, " ")
			return slices.Contains(again, name)
		})
	}
	for _, line := range wrong {
		t.Error(line)
	}
}

// differences says in what a boot and a survey differ; missing are the names
// that were not launched.
func differences(launched, expected []string, said map[string]string) (missing, wrong []string) {
	for _, name := range launched {
		if !slices.Contains(expected, name) {
			wrong = append(wrong, fmt.Sprintf("%s was launched; the survey says: %s", name,
				said[name]))
		}
	}
	for _, name := range expected {
		if !slices.Contains(launched, name) {
			missing = append(missing, name)
			wrong = append(wrong, fmt.Sprintf("%s was not launched; the survey says: %s", name,
				said[name]))
		}
	}
	return missing, wrong
}

// TestAFirstBootAndAHungCron asks about a machine that boots for the first
// time, by its presets, and whose cron hangs.
func TestAFirstBootAndAHungCron(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, map[string]string{
		vendor + "fresh.service":    marked("fresh") + install,
		vendor + "unwanted.service": marked("unwanted") + install,
		vendor + "chosen@.service":  marked("chosen-%i") + install,
		vendor + "given@.service":   marked("given-%i") + install + "DefaultInstance=d\n",
		vendor + "static.service":   marked("static"),
		vendor + "kept.service":     marked("kept") + install,
		wants + "kept.service":      "-> /" + vendor + "kept.service",
		admin + "off.service":       "-> /dev/null",
		vendor + "off.service":      marked("off") + install,
		"etc/systemd/system-preset/10-ours.preset": "# ours\ndisable unwanted.service\n" +
			"disable kept.service\nenable chosen@.service one two\n",
		"usr/lib/systemd/system-preset/99-all.preset": "enable *\n",
		"etc/cron.d/boot": "@reboot root /usr/bin/mark cron\n",
	})
	ok(t, os.RemoveAll(filepath.Join(m.Dir, "etc/machine-id")))
	ok(t, unix.Mkfifo(filepath.Join(m.Dir, "etc/cron.d/fifo"), 0o644))
	var list struct {
		Items []struct{ ID, State, Command string }
	}
	if err := json.Unmarshal(run(t, m, "list", "--all", "--json"), &list); err != nil {
		t.Fatal(err)
	}
	var expected []string
	for _, it := range list.Items {
		if found := markLine.FindStringSubmatch(it.Command); found != nil && it.State == "on" {
			expected = append(expected, found[1])
		}
	}
	launched := m.Boot(t)
	slices.Sort(launched)
	slices.Sort(expected)
	if !slices.Equal(launched, expected) || len(expected) < 4 {
		t.Errorf("launched %v; the survey expects %v", launched, expected)
	} else {
		t.Logf("launched %v", launched)
	}
}

func ok(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
