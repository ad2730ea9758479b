package autostart

import (
	"strings"
	"testing"
)

func TestSetHiddenChangesOneLine(t *testing.T) {
	for _, c := range []struct{ before, off, on string }{
		{"[Desktop Entry]\nExec=x\n", "[Desktop Entry]\nExec=x\nHidden=true\n", "[Desktop " +
			"Entry]\nExec=x\nHidden=false\n"},
		{"# c\n[Desktop Entry]\r\nHidden = false\r\nExec=x\r\n", "# c\n[Desktop Entry]\r\n" +
			"Hidden=true\r\nExec=x\r\n", "# c\n[Desktop Entry]\r\nHidden=false\r\nExec=x\r\n"},
		{"[Desktop Entry]\nExec=x\n\n[Action]\nHidden=no\n", "[Desktop Entry]\nExec=x\n" +
			"Hidden=true\n\n[Action]\nHidden=no\n", ""},
		{"[Desktop Entry]\nHidden=true\nHidden=false", "[Desktop Entry]\nHidden=true\n" +
			"Hidden=true", ""},
		{"[Desktop Entry]\nExec=x", "[Desktop Entry]\nExec=x\nHidden=true\n", ""},
		{"[Other]\nExec=x\n", "error", "error"},
	} {
		for hidden, want := range map[bool]string{true: c.off, false: c.on} {
			got, err := setHidden([]byte(c.before), hidden)
			if err != nil {
				got = []byte("error")
			}
			if want != "" && string(got) != want {
				t.Errorf("%q with Hidden=%v: %q; want %q", c.before, hidden, got, want)
			}
		}
	}
}

func TestSetDelayAndBack(t *testing.T) {
	for before, want := range map[string]string{
		"[Desktop Entry]\nExec=x --y %U\nName=n\n": "[Desktop Entry]\nExec=/bin/sh -c " +
			"\"sleep 60; exec x --y\"\nX-Calmdawn-Exec=x --y %U\nName=n\n",
		"[Desktop Entry]\r\nExec=x\r\nHidden=false\r\n": "[Desktop Entry]\r\nExec=/bin/sh -c " +
			"\"sleep 60; exec x\"\r\nX-Calmdawn-Exec=x\r\nHidden=false\r\n",
		"[Desktop Entry]\nExec=x \"a b\"\n": "error",
		"[Desktop Entry]\nExec=x; rm -rf\n": "error",
	} {
		got, err := setDelay([]byte(before), 60)
		if err != nil {
			got = []byte("error")
		}
		if string(got) != want {
			t.Errorf("%q: %q; want %q", before, got, want)
		}
		if err != nil {
			continue
		}
		d, err := parse(got)
		if command, delay := d.command(); err != nil || delay != 60 ||
			!strings.HasPrefix(command, "x") {
			t.Errorf("%q is read as %q, %d, %v", got, command, delay, err)
		}
		if longer, err := setDelay(got,
			90); err != nil || strings.Count(string(longer), "sleep") != 1 {
			t.Errorf("%q delayed longer: %q, %v", got, longer, err)
		}
		if back, err := setDelay(got, 0); err != nil || string(back) != before {
			t.Errorf("%q back: %q, %v", got, back, err)
		}
	}
}

func TestLocalised(t *testing.T) {
	d, err := parse([]byte("[Desktop Entry]\nName=Sync\nName[de]=Abgleich\nName[de_AT]=Obgleich\n"))
	if err != nil {
		t.Fatal(err)
	}
	for language, want := range map[string]string{
		"":            "Sync",
		"C":           "Sync",
		"de_DE.UTF-8": "Abgleich",
		"de_AT@euro":  "Obgleich",
		"fr_FR":       "Sync",
	} {
		if got := d.localised("Name", language); got != want {
			t.Errorf("%q: %q; want %q", language, got, want)
		}
	}
}

func TestUnitOf(t *testing.T) {
	if got := unitOf("mask-ed app.desktop"); got != `app-mask\x2ded\x20app@autostart.service` {
		t.Errorf("unitOf: %s", got)
	}
}

func FuzzEntry(f *testing.F) {
	f.Add("\ufeff[Desktop Entry]\r\nType=Application\nHidden=false\n[Other]\nHidden=x\n")
	f.Fuzz(func(t *testing.T, text string) {
		if _, err := parse([]byte(text)); err != nil {
			return
		}
		off, err := setHidden([]byte(text), true)
		if err != nil {
			t.Fatalf("%q has the group and cannot be switched off: %v", text, err)
		}
		if d, err := parse(off); err != nil || !d.hidden {
			t.Fatalf("%q is not off after it was switched off: %q, %v", text, off, err)
		}
		if strings.Count(string(off), "\n") > strings.Count(text, "\n")+2 {
			t.Fatalf("%q became %q", text, off)
		}
	})
}
