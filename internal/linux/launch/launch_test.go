//go:build linux

package launch_test

import (
	"testing"

	"calmdawn/internal/linux/launch"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

func TestResolve(t *testing.T) {
	r, err := machine.Open(testtree.Make(t, map[string]string{
		"usr/bin/env":                    "x",
		"usr/bin/sh":                     "x",
		"usr/bin/nice":                   "x",
		"usr/bin/timeout":                "x",
		"usr/bin/python3":                "x",
		"usr/bin/flatpak":                "x",
		"usr/bin/snap":                   "x",
		"usr/bin/real":                   "x",
		"opt/script.py":                  "x",
		"var/lib/flatpak/app/org.here/x": "",
		"snap/here/x":                    "",
		"home/maria/":                    "",
	}))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	f := launch.On(r)
	for line, want := range map[string]launch.Program{
		"/usr/bin/real --x":                   {Path: "/usr/bin/real"},
		"real":                                {Path: "/usr/bin/real"},
		"gone":                                {Path: "gone", Missing: "gone"},
		"/opt/gone x":                         {Path: "/opt/gone", Missing: "/opt/gone"},
		"env A=b -u C real":                   {Path: "/usr/bin/real"},
		"env A=b /opt/gone":                   {Path: "/opt/gone", Missing: "/opt/gone"},
		"env":                                 {Path: "/usr/bin/env"},
		"sh -c 'exec real -x'":                {Path: "/usr/bin/real"},
		"sh -c '/opt/gone --x; true'":         {Path: "/opt/gone", Missing: "/opt/gone"},
		"sh -c '/opt/gone || real'":           {Path: "/usr/bin/sh"},
		"sh -c 'if true; then /opt/gone; fi'": {Path: "/usr/bin/sh"},
		"sh -c '$HOME/gone'":                  {Path: "/usr/bin/sh"},
		"sh -lc 'A=b real'":                   {Path: "/usr/bin/real"},
		"sh /opt/gone.sh":                     {Path: "/opt/gone.sh", Missing: "/opt/gone.sh"},
		"nice -n 5 real":                      {Path: "/usr/bin/real"},
		"timeout 5 /opt/gone":                 {Path: "/opt/gone", Missing: "/opt/gone"},
		"python3 /opt/script.py":              {Path: "/opt/script.py"},
		"python3 /opt/gone.py":                {Path: "/opt/gone.py", Missing: "/opt/gone.py"},
		"python3 -m thing":                    {Path: "/usr/bin/python3"},
		"flatpak run org.here":                {Path: "/usr/bin/flatpak"},
		"flatpak run --branch=x org.gone": {
			Path:    "/usr/bin/flatpak",
			Missing: "the application org.gone",
		},
		"snap run gone.cmd": {Path: "/usr/bin/snap", Missing: "the application " +
			"gone"},
		"$HOME/x":                 {},
		"%h/x":                    {},
		"'/usr/bin/real' \"a b\"": {Path: "/usr/bin/real"},
	} {
		if got := f.Resolve(launch.Split(line), []string{"/usr/bin"}); got != want {
			t.Errorf("%s: %+v; want %+v", line, got, want)
		}
	}
}

func FuzzShell(f *testing.F) {
	f.Add("A=b exec /x 'y z' && w \\\n\"q")
	f.Fuzz(func(t *testing.T, text string) { launch.Shell(text) })
}
