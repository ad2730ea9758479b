package cron

import (
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	isUser := func(name string) bool { return name == "root" }
	for _, c := range []struct {
		text  string
		lines string // "fires: command", joined by "|"
		drops bool
	}{
		{"# why\n@reboot root /x y\n", "at the boot: /x y", false},
		{"17 * * * * root /x\n5 4 * * * root /y\n", "every hour at minute 17: /x|every day at " +
			"4:05: /y", false},
		{"*/5 8-18 * jan,feb mon-fri root /x\n", "at */5 8-18 * jan,feb mon-fri (minute, hour, " +
			"day, month, weekday): /x", false},
		{"A = b\n\"C D\"='e'\n\t@daily\troot\t/x\n", "every day at 0:00: /x", false},
		{"#calmdawn off: @reboot root /x\n", "at the boot: /x", false},
		{"@reboot root /x", "at the boot: /x", true},
		{"@never root /x\n", "", true},
		{"60 * * * * root /x\n", "", true},
		{"5/2 * * * * root /x\n", "", true},
		{"30-10 * * * * root /x\n", "", true},
		{"* * 0 * * root /x\n", "", true},
		{"* * * * * ghost /x\n", "at * * * * * (minute, hour, day, month, weekday): /x", true},
		{"* * * * * root\n", "", true},
		{"", "", false},
	} {
		lines, err := parse([]byte(c.text), true, isUser)
		var got []string
		for _, l := range lines {
			got = append(got, l.fires+": "+l.command)
		}
		if strings.Join(got, "|") != c.lines || (err != nil) != c.drops {
			t.Errorf("%q: %q, %v; want %q", c.text, got, err, c.lines)
		}
	}
}

func TestTurnChangesOneLine(t *testing.T) {
	const table = "A=b\n  @reboot root /x\r\n@reboot root /x\n"
	for nth, want := range map[int]string{0: "A=b\n  #calmdawn off: @reboot root /x\r\n@reboot " +
		"root /x\n", 1: "A=b\n  @reboot root /x\r\n#calmdawn off: @reboot root /x\n"} {
		x := line{text: "@reboot root /x", command: "/x"}
		off, err := turn([]byte(table), x, nth, true, 0)
		if err != nil || string(off) != want {
			t.Errorf("line %d: %q, %v", nth, off, err)
		}
		held, err := turn(off, x, nth, false, 60)
		if err != nil || !strings.Contains(string(held), "@reboot root : calmdawn delays this; "+
			"sleep 60; /x") {
			t.Errorf("line %d delayed: %q, %v", nth, held, err)
		}
		lines, err := parse(held, true, func(string) bool { return true })
		if err != nil || len(lines) != 2 || lines[nth].delay != 60 || lines[nth].text != x.text ||
			lines[1-nth].delay != 0 {
			t.Errorf("line %d delayed is read as %+v, %v", nth, lines, err)
		}
		if back, err := turn(held, x, nth, false, 0); err != nil || string(back) != table {
			t.Errorf("line %d on again: %q, %v", nth, back, err)
		}
	}
	if _, err := turn([]byte(table), line{text: "@reboot root /y"}, 0, true, 0); err == nil {
		t.Error("a line that is not there was turned")
	}
}

func FuzzTable(f *testing.F) {
	f.Add("# c\n@reboot root /x\n*/5 1-3 * * mon root /y\n#calmdawn off: @daily root /z\n")
	f.Fuzz(func(t *testing.T, text string) {
		lines, _ := parse([]byte(text), true, func(string) bool { return true })
		for _, l := range lines {
			off, err := turn([]byte(text), l, 0, true, 0)
			if err != nil {
				t.Fatalf("line %q of %q is not found again: %v", l.text, text, err)
			}
			if _, err := turn(off, l, 0, false, 5); err != nil {
				t.Fatalf("line %q of %q cannot be turned back: %v", l.text, off, err)
			}
		}
	})
}

func TestTitles(t *testing.T) {
	for _, c := range []struct{ line, program, want string }{
		{"30 7 * * * root /usr/bin/report --all", "/usr/bin/report",
			"Run report, every day at 7:30"},
		{"47 6 * * 7 root cd / && run-parts --report /etc/cron.weekly", "/usr/bin/run-parts",
			"Run the scripts of /etc/cron.weekly, every Sunday at 6:47"},
		{"52 6 1 * * root test -x /usr/sbin/x || { cd / && run-parts /etc/cron.monthly; }", "",
			"Run the scripts of /etc/cron.monthly, on day 1 of every month at 6:52"},
		{"*/10 * * * * root command -v sa1 > /dev/null && sa1 1 1", "",
			"Run sa1, every 10 minutes"},
		{"5 0 * * * root [ -x /etc/init.d/x ] && if [ ! -d /run/x ]; then /sbin/invoke-rc.d x " +
			"start >/dev/null; fi", "/usr/bin/[", "Run x start, every day at 0:05"},
		{"10 3 * jan 1-5 root MODE=1 /sbin/scrub -A", "/sbin/scrub", "Run scrub"},
		{"@reboot root :", "", "Run a command, at the boot"},
	} {
		l, err := parseLine(c.line, true, func(string) bool { return true })
		if got := sentence(l.command, c.program, l.fires); err != nil || got != c.want {
			t.Errorf("%q: %q, %v; want %q", c.line, got, err, c.want)
		}
	}
	for comment, said := range map[string]bool{
		"Count the lamp hours":                      true,
		"*  *  *  *  * user-name command to be run": false,
		".---------------- minute (0 - 59)":         false,
		"Example of job definition:":                false,
	} {
		if (remark(comment) != "") != said {
			t.Errorf("the comment %q", comment)
		}
	}
	const lines = "# Kept up to date once an hour, but never (3600\n# seconds) later\n" +
		"* * * * * true\n# Of the lamps.\n# each night\n* * * * * true\n"
	found, err := parse([]byte(lines), false, nil)
	if err != nil || found[0].comment != "" || found[1].comment != "each night" {
		t.Errorf("comments of several lines: %+v %v", found, err)
	}
}
