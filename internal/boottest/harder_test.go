//go:build linux

package boottest_test

import (
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
)

// harder is a machine of further questions, by what a survey may stumble on.
func harder() map[string]string {
	all := map[string]string{
		"etc/hostname": "larkdesk\n",

		// Conditions of a user's manager.
		users + "uhost.service":       "[Unit]\nConditionHost=lark*\n" + marked("u-host"),
		users + "unothost.service":    "[Unit]\nConditionHost=!larkdesk\n" + marked("u-nothost"),
		users + "uuser.service":       "[Unit]\nConditionUser=maria\n" + marked("u-user"),
		users + "unotuser.service":    "[Unit]\nConditionUser=!maria\n" + marked("u-notuser"),
		users + "usystem.service":     "[Unit]\nConditionUser=@system\n" + marked("u-system"),
		users + "unumber.service":     "[Unit]\nConditionUser=1000\n" + marked("u-number"),
		users + "ugroup.service":      "[Unit]\nConditionGroup=maria\n" + marked("u-group"),
		users + "uothergroup.service": "[Unit]\nConditionGroup=teo\n" + marked("u-othergroup"),
		users + "urelease.service": "[Unit]\nConditionOSRelease=ID=debian\n" +
			marked("u-release"),

		// Slices bring what they want, and slices above them.
		vendor + "sliced.service": marked("sliced") +
			"Slice=lark-desk.slice\n",
		wants + "sliced.service":                         "-> /x",
		vendor + "lark-desk.slice":                       "[Unit]\nWants=ofslice.service\n",
		vendor + "ofslice.service":                       marked("ofslice"),
		admin + "lark.slice.wants/ofupper.service":       "-> /x",
		vendor + "ofupper.service":                       marked("ofupper"),
		admin + "system.slice.wants/ofsystem.service":    "-> /x",
		vendor + "ofsystem.service":                      marked("ofsystem"),
		vendor + "tmpl@.service":                         marked("tmpl-%i"),
		wants + "tmpl@a.service":                         "-> /x",
		admin + "system-tmpl.slice.wants/oftmpl.service": "-> /x",
		vendor + "oftmpl.service":                        marked("oftmpl"),
		admin + "unused.slice.wants/ofunused.service":    "-> /x",
		vendor + "ofunused.service":                      marked("ofunused"),
		users + "app.slice.wants/ofapp.service":          "-> /x",
		users + "ofapp.service":                          marked("u-ofapp"),

		// What a text brings with it unasked.
		vendor + "socketed.service": marked("socketed") + "Sockets=brought.socket\n",
		wants + "socketed.service":  "-> /x",
		vendor + "brought.socket": "[Unit]\nWants=ofsocket.service\n[Socket]\n" +
			"ListenStream=/run/brought\n",
		vendor + "brought.service":  "[Service]\nExecStart=/usr/bin/mark brought\n",
		vendor + "ofsocket.service": marked("ofsocket"),
		vendor + "joined.service":   "[Unit]\nJoinsNamespaceOf=x.service\n" + marked("joined"),
		wants + "joined.service":    "-> /x",
		vendor + "binder.service": "[Unit]\nBindsTo=bound.service\nAfter=bound.service\n" +
			marked("binder"),
		wants + "binder.service": "-> /x",
		vendor + "bound.service": marked("bound"),
		vendor + "bindscond.service": "[Unit]\nBindsTo=uncond.service\nAfter=uncond.service\n" +
			marked("bindscond"),
		wants + "bindscond.service": "-> /x",
		vendor + "uncond.service":   "[Unit]\nConditionPathExists=/nowhere\n" + marked("uncond"),
		vendor + "bindsstay.service": "[Unit]\nBindsTo=stays.service\nAfter=stays.service\n" +
			marked("bindsstay"),
		wants + "bindsstay.service":  "-> /x",
		vendor + "stays.service":     marked("stays") + "RemainAfterExit=yes\n",
		vendor + "execpaths.service": marked("execpaths") + "NoExecPaths=/opt\nExecPaths=/\n",
		wants + "execpaths.service":  "-> /x",
		vendor + "parted.service":    "[Unit]\nPartOf=multi-user.target\n" + marked("parted"),
		vendor + "succeeder.service": "[Unit]\nOnSuccess=succeeded.service\n" + marked("succeeder"),
		wants + "succeeder.service":  "-> /x",
		vendor + "succeeded.service": marked("succeeded"),
		vendor + "failer.service": "[Unit]\nOnFailure=uncaught.service\n[Service]\n" +
			"Type=oneshot\nExecStart=/bin/true\n",
		wants + "failer.service":    "-> /x",
		vendor + "uncaught.service": marked("uncaught"),

		// Names that begin with a dot, and what else is passed over.
		vendor + ".dotted.service":   marked("dotted"),
		wants + ".dotted.service":    "-> /x",
		vendor + "dotwants.target":   "[Unit]\nWants=.direct.service\n",
		wants + "dotwants.target":    "-> /x",
		vendor + ".direct.service":   marked("dotdirect"),
		vendor + "dotlinked.service": marked("dotlinked"),
		wants + ".x.service":         "-> /" + vendor + "dotlinked.service",
		vendor + "dotdrop.service":   marked("dotdrop-own"),
		wants + "dotdrop.service":    "-> /x",
		admin + "dotdrop.service.d/.x.conf": "[Service]\nExecStart=\n" +
			"ExecStart=/usr/bin/mark dotdrop-hidden\n",
		vendor + "olddrop.service": marked("olddrop-own"),
		wants + "olddrop.service":  "-> /x",
		admin + "olddrop.service.d/x.conf.dpkg-old": "[Service]\nExecStart=\n" +
			"ExecStart=/usr/bin/mark olddrop-old\n",
		admin + ".hiddenset.service.d/x.conf": "[Service]\n",

		// Texts.
		vendor + "large.service": marked("large") + strings.Repeat("# a long comment of "+
			"sixty four characters, more or less, I would say\n", 90000),
		wants + "large.service":   "-> /x",
		vendor + "nul.service":    "[Unit]\nDescription=a\x00b\n" + marked("nul"),
		wants + "nul.service":     "-> /x",
		vendor + "nulend.service": marked("nulend") + "\x00",
		wants + "nulend.service":  "-> /x",
		vendor + "nulexec.service": "[Service]\nType=oneshot\n# x\x00ExecStart=/usr/bin/mark " +
			"nulexec\n",
		wants + "nulexec.service":      "-> /x",
		vendor + "lonecr.service":      "[Service]\rType=oneshot\rExecStart=/usr/bin/mark lonecr\r",
		wants + "lonecr.service":       "-> /x",
		vendor + "emptylaunch.service": "[Service]\nType=oneshot\nExecStart=-\n",
		wants + "emptylaunch.service":  "-> /x",
		vendor + "nodash.service": "[Service]\nType=oneshot\nExecStart=- /usr/bin/mark " +
			"nodash\n",
		wants + "nodash.service":    "-> /x",
		vendor + "relative.service": "[Service]\nType=oneshot\nExecStart=bin/mark relative\n",
		wants + "relative.service":  "-> /x",
		vendor + "slashend.service": "[Service]\nType=oneshot\nExecStart=/usr/bin/mark/ " +
			"slashend\n",
		wants + "slashend.service": "-> /x",
		vendor + "badspec.service": "[Service]\nType=oneshot\nExecStart=/usr/bin/mark " +
			"badspec %z\n",
		wants + "badspec.service": "-> /x",
		vendor + "unbalanced.service": "[Service]\nType=oneshot\nExecStart=/usr/bin/mark " +
			"\"unbalanced\n",
		wants + "unbalanced.service": "-> /x",
		vendor + "oneofboth.service": "[Service]\nType=oneshot\nExecStart=/usr/bin/mark " +
			"oneofboth\nExecStart=/usr/bin/mark \"x\n",
		wants + "oneofboth.service": "-> /x",
		vendor + "semicolon.service": "[Service]\nType=oneshot\nExecStart=/bin/true ; " +
			"/usr/bin/mark semicolon\n",
		wants + "semicolon.service": "-> /x",
		vendor + "badtype.service":  "[Service]\nType=often\nExecStart=/usr/bin/mark badtype\n",
		wants + "badtype.service":   "-> /x",
		vendor + "onlystop.service": "[Service]\nType=oneshot\nRemainAfterExit=yes\n" +
			"ExecStop=/bin/true\n",
		wants + "onlystop.service":    "-> /x",
		vendor + "simplenone.service": "[Service]\nType=simple\nExecStop=/bin/true\n",
		wants + "simplenone.service":  "-> /x",

		// Programs whose paths have blanks.
		"opt/my tool/mark": "#!/bin/sh\nexec /usr/bin/mark \"$@\"\n",
		vendor + "quotedpath.service": "[Service]\nType=oneshot\nExecStart=\"/opt/my tool/mark\" " +
			"quotedpath\n",
		wants + "quotedpath.service": "-> /x",
		vendor + "singlepath.service": "[Service]\nType=oneshot\nExecStart='/opt/my tool/mark' " +
			"singlepath\n",
		wants + "singlepath.service": "-> /x",
		vendor + "hexpath.service": "[Service]\nType=oneshot\nExecStart=/opt/my\\x20tool/mark " +
			"hexpath\n",
		wants + "hexpath.service": "-> /x",
		vendor + "spath.service": "[Service]\nType=oneshot\nExecStart=/opt/my\\stool/mark " +
			"spath\n",
		wants + "spath.service": "-> /x",
		vendor + "backpath.service": "[Service]\nType=oneshot\nExecStart=/opt/my\\ tool/mark " +
			"backpath\n",
		wants + "backpath.service": "-> /x",

		// Names with specifiers.
		vendor + "byhost.target": "[Unit]\nWants=on-%H.service " +
			"short-%l.service\n",
		wants + "byhost.target":           "-> /x",
		vendor + "on-larkdesk.service":    marked("on-host"),
		vendor + "on-otherdesk.service":   marked("on-other"),
		vendor + "short-larkdesk.service": marked("on-short"),
		vendor + "byid.target": "[Unit]\nWants=os-%o.service " +
			"arch-%a.service who-%u.service n-%U.service\n",
		wants + "byid.target":          "-> /x",
		vendor + "os-debian.service":   marked("on-os"),
		vendor + "arch-x86-64.service": marked("on-arch"),
		vendor + "who-root.service":    marked("on-user"),
		vendor + "n-0.service":         marked("on-number"),
		users + "byuser.target": "[Unit]\nWants=her-%u.service " +
			"at-%U.service\n",
		users + "default.target.wants/byuser.target": "-> /x",
		users + "her-maria.service":                  marked("u-byname"),
		users + "at-1000.service":                    marked("u-bynumber"),

		// Entries of the desktop.
		"etc/xdg/autostart/cased.desktop": entry("e-cased", ""),
		hers + "autostart/Cased.desktop":  entry("e-hercased", ""),
		"etc/xdg/autostart/Upper.DESKTOP": entry("e-upper", ""),
		"etc/xdg/autostart/.dot.desktop":  entry("e-dot", ""),
		"etc/xdg/autostart/blanks.desktop": "[Desktop Entry]\nType=Application\nName=N\n" +
			"Exec=\"/opt/my tool/mark\" e-blanks\n",
		"etc/xdg/autostart/unquoted.desktop": entry("e-unquoted", "Exec=/usr/bin/mark \"e-open\n"),
		"etc/xdg/autostart/nul.desktop":      entry("e-nul", "X-A=a\x00b\n"),

		// teo logs in once.
		vendor + "logsin.service": "[Unit]\nAfter=multi-user.target user@1000.service\n" +
			"[Service]\nExecStart=/bin/su -l teo -c 'sleep 2'\n",
		"etc/systemd/system/graphical.target.wants/logsin.service": "-> /x",
	}
	for name, more := range map[string]string{
		"host":          "ConditionHost=larkdesk",
		"nothost":       "ConditionHost=!larkdesk",
		"globhost":      "ConditionHost=lark*",
		"casehost":      "ConditionHost=LARKDESK",
		"otherhost":     "ConditionHost=otherdesk",
		"eitherhost":    "ConditionHost=|otherdesk\nConditionHost=|larkdesk",
		"neitherhost":   "ConditionHost=!|larkdesk\nConditionHost=|otherdesk",
		"release":       "ConditionOSRelease=ID=debian",
		"notrelease":    "ConditionOSRelease=!ID=debian",
		"otherrelease":  "ConditionOSRelease=ID=lark",
		"newrelease":    "ConditionOSRelease=VERSION_ID>=12",
		"newerrelease":  "ConditionOSRelease=VERSION_ID>12.5",
		"bothrelease":   "ConditionOSRelease=\"ID=debian\" \"VERSION_ID<13\"",
		"unequal":       "ConditionOSRelease=ID!=debian",
		"globrelease":   "ConditionOSRelease=ID$=deb*",
		"brokenrelease": "ConditionOSRelease=ID",
		"notbroken":     "ConditionOSRelease=!ID",
		"missingkey":    "ConditionOSRelease=LARK=",
		"root":          "ConditionUser=root",
		"notroot":       "ConditionUser=!root",
		"rootnumber":    "ConditionUser=0",
		"maria":         "ConditionUser=maria",
		"systemuser":    "ConditionUser=@system",
		"nouser":        "ConditionUser=nobodyhere",
		"rootgroup":     "ConditionGroup=root",
		"mariagroup":    "ConditionGroup=maria",
		"several": "ConditionHost=larkdesk\nConditionUser=root\n" +
			"ConditionOSRelease=ID=debian",
		"severalnot":      "ConditionHost=larkdesk\nConditionUser=maria",
		"arch":            "ConditionArchitecture=native",
		"firstboot":       "ConditionFirstBoot=no",
		"assertshost":     "AssertHost=otherdesk",
		"rqmissing":       "Requisite=nope.service",
		"rqinactive":      "Requisite=rqlone.service",
		"rqinactiveafter": "Requisite=rqlone.service\nAfter=rqlone.service",
		"rqpulled":        "Requisite=rqthere.service\nAfter=rqthere.service",
		"rqloose":         "Requisite=rqthere.service",
		"rqmasked":        "Requisite=rqmask.service",
		"rqmissingafter":  "Requisite=nope.service\nAfter=nope.service",
		"rqmaskedafter":   "Requisite=rqmask.service\nAfter=rqmask.service",
		"rqtarget":        "Requisite=multi-user.target",
		"rqthere":         "",
		"wantsslice":      "Wants=unmet.slice",
	} {
		maps.Copy(all, on("c-"+name, more))
	}
	all[vendor+"rqthere.service"] = marked("rqthere") + "RemainAfterExit=yes\n"
	all[wants+"rqthere.service"] = "-> /x"
	all[vendor+"rqlone.service"] = marked("rqlone")
	all[admin+"rqmask.service"] = "-> /dev/null"
	for name := range map[string]bool{
		"uhost": true, "unothost": true, "uuser": true, "unotuser": true, "usystem": true,
		"unumber": true, "ugroup": true, "uothergroup": true, "urelease": true,
	} {
		all[users+"default.target.wants/"+name+".service"] = "-> /x"
	}
	for name, timer := range map[string]string{
		"tm-century":  "OnCalendar=2150-01-01",
		"tm-beyond":   "OnCalendar=2500-01-01",
		"tm-nonsense": "OnCalendar=whenever it suits",
		"tm-mixed":    "OnCalendar=whenever\nOnActiveSec=0",
		"tm-badspan":  "OnActiveSec=soon",
		"tm-epoch":    "OnCalendar=@1700000000",
		"tm-sub":      "OnActiveSec=0.0",
	} {
		all[vendor+name+".timer"] = "[Timer]\nAccuracySec=1us\n" + timer + "\n"
		all[wants+name+".timer"] = "-> /x"
		all[vendor+name+".service"] = marked(name)
	}
	return all
}

func TestTheSurveyAgreesWithAHarderBoot(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, harder())
	ok(t, os.Chmod(filepath.Join(m.Dir, "opt/my tool/mark"), 0o755))
	agrees(t, m)
}

// TestMachineryThatIsOff asks about what only a way leads to that is masked,
// and about people who never log in.
func TestMachineryThatIsOff(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, map[string]string{
		"etc/systemd/system-generators/systemd-sysv-generator":     "-> /dev/null",
		"etc/systemd/system-generators/systemd-rc-local-generator": "",
		"etc/init.d/scripted":                      initScript("scripted"),
		"etc/rc3.d/S05scripted":                    "-> ../init.d/scripted",
		"etc/rc.local":                             "#!/bin/sh\n/usr/bin/mark rclocal\n",
		admin + "timers.target":                    "-> /dev/null",
		admin + "paths.target":                     "-> /dev/null",
		admin + "user@.service":                    "-> /dev/null",
		admin + "timers.target.wants/tick.timer":   "-> /x",
		vendor + "tick.timer":                      "[Timer]\nOnActiveSec=0\n",
		vendor + "tick.service":                    marked("tick"),
		admin + "paths.target.wants/way.path":      "-> /x",
		vendor + "way.path":                        "[Path]\nPathExists=/etc/passwd\n",
		vendor + "way.service":                     marked("way"),
		admin + "lone.target":                      "-> /dev/null",
		wants + "lone.target":                      "-> /x",
		admin + "lone.target.wants/alone.service":  "-> /x",
		vendor + "alone.service":                   marked("alone"),
		users + "all.service":                      marked("u-all"),
		users + "default.target.wants/all.service": "-> /x",
		"etc/xdg/autostart/plain.desktop":          entry("e-plain", ""),
		admin + "cron.service":                     "-> /dev/null",
		"etc/cron.d/boot":                          "@reboot root /usr/bin/mark cron\n",
		vendor + "there.service":                   marked("there"),
		wants + "there.service":                    "-> /x",
	})
	for _, p := range []string{"etc/init.d/scripted", "etc/rc.local"} {
		ok(t, os.Chmod(filepath.Join(m.Dir, p), 0o755))
	}
	if said := agrees(t, m); len(said) < 6 {
		t.Errorf("the survey knows %v alone", said)
	}
}

// TestPeopleWhoNeverLogIn have units and entries of their own.
func TestPeopleWhoNeverLogIn(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, map[string]string{
		hers + "systemd/user/own.service":                                 marked("u-hers"),
		hers + "systemd/user/default.target.wants/own.service":            "-> ../own.service",
		"home/desk/.config/systemd/user/own.service":                      marked("u-desk"),
		"home/desk/.config/systemd/user/default.target.wants/own.service": "-> ../own.service",
		"home/desk/.config/autostart/own.desktop":                         entry("e-desk", ""),
		"home/desk/.profile": "/usr/bin/mark s-desk " +
			"&\n",
		"var/spool/cron/crontabs/desk": "@reboot " +
			"/usr/bin/mark cron-desk\n",
		"home/box/.config/systemd/user/own.service":                      marked("u-box"),
		"home/box/.config/systemd/user/default.target.wants/own.service": "-> ../own.service",
		"var/lib/systemd/linger/box":                                     "",
	})
	f, err := os.OpenFile(filepath.Join(m.Dir, "etc/passwd"), os.O_APPEND|os.O_WRONLY, 0)
	ok(t, err)
	_, err = f.WriteString("desk:x:1002:1002::/home/desk:/usr/sbin/nologin\n" +
		"box:x:1003:1003::/home/box:/bin/false\n")
	ok(t, err)
	ok(t, f.Close())
	f, err = os.OpenFile(filepath.Join(m.Dir, "etc/shadow"), os.O_APPEND|os.O_WRONLY, 0)
	ok(t, err)
	_, err = f.WriteString("desk:*:19000::::::\nbox:*:19000::::::\n")
	ok(t, err)
	ok(t, f.Close())
	ok(t, os.Chmod(filepath.Join(m.Dir, "var/spool/cron/crontabs/desk"), 0o600))
	ok(t, os.Chown(filepath.Join(m.Dir, "var/spool/cron/crontabs/desk"), 1002, 1002))
	for name, id := range map[string]int{"desk": 1002, "box": 1003} {
		ok(t, filepath.WalkDir(filepath.Join(m.Dir, "home", name),
			func(p string, _ os.DirEntry, err error) error {
				ok(t, err)
				return os.Lchown(p, id, id)
			}))
	}
	agrees(t, m)
}

// TestAFirstBootWithAliases asks what presets make of other names.
func TestAFirstBootWithAliases(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, map[string]string{
		vendor + "nickwants.target": "[Unit]\nWants=nick.service " +
			"nock.service twice.service late.service\n",
		vendor + "multi-user.target.wants/nickwants.target": "-> ../nickwants.target",
		vendor + "named.service": marked("named") + "[Install]\n" +
			"Alias=nick.service\n",
		vendor + "refused.service": marked("refused") + "[Install]\n" +
			"Alias=nock.service\n",
		vendor + "first.service": marked("first") + "[Install]\n" +
			"Alias=twice.service\n",
		vendor + "second.service": marked("second") + "[Install]\n" +
			"Alias=twice.service\n",
		vendor + "also.service": marked("also") + "[Install]\n" +
			"WantedBy=multi-user.target\nAlso=besides.service\n",
		vendor + "besides.service": marked("besides") + "[Install]\n" +
			"WantedBy=multi-user.target\n",
		vendor + "byalias.service": marked("byalias") + "[Install]\n" +
			"WantedBy=multi-user.target\nAlias=othername.service\n",
		vendor + "linked.service": marked("linked") + "[Install]\n" +
			"WantedBy=multi-user.target\n",
		vendor + "linkname.service": "-> linked.service",
		vendor + "offname.service":  "-> offreal.service",
		vendor + "offreal.service": marked("offreal") + "[Install]\n" +
			"WantedBy=multi-user.target\n",
		vendor + "requirer.service": marked("requirer") + "[Install]\n" +
			"RequiredBy=multi-user.target\n",
		vendor + "upheld.service": marked("upheld") + "[Install]\n" +
			"UpheldBy=multi-user.target\n",
		vendor + "kept.service": marked("kept") + "[Install]\n" +
			"Alias=late.service\n",
		admin + "late.service": "-> /" + vendor + "kept.service",
		"usr/lib/systemd/system-preset/10-x.preset": "enable named.service\ndisable " +
			"refused.service\n" +
			"enable first.service\nenable second.service\nenable also.service\ndisable " +
			"besides.service\n" +
			"enable othername.service\nenable linkname.service\ndisable linked.service\ndisable " +
			"offname.service\n" +
			"enable offreal.service\nenable requirer.service\nenable upheld.service\ndisable " +
			"kept.service\n" +
			"enable cron.service\ndisable *\n",
	})
	ok(t, os.RemoveAll(filepath.Join(m.Dir, "etc/machine-id")))
	agrees(t, m)
}
