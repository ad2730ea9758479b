//go:build linux

package linux_test

import (
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/family"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// A seat is a tree with a home, in which things of every kind are to be
// launched. Each leaves a file of its name in ran when it is.
const marked = "/usr/bin/touch "

func autostarted(name, more string) string {
	return "[Desktop Entry]\nType=Application\nName=" + name + "\nExec=" + marked + "RAN/" + name +
		"\n" + more
}

// seat are the files of a home with entries of every kind, and more.
func seat(more map[string]string) map[string]string {
	const own = "home/maria/.config/autostart/"
	files := map[string]string{
		"etc/passwd":    "maria:x:1000:1000::/home/maria:/bin/bash\n",
		"usr/bin/touch": "", "usr/bin/dex": "", "ran/": "",
		own + "plain.desktop":    autostarted("plain", ""),
		own + "phase.desktop":    autostarted("phase", "X-GNOME-Autostart-Phase=Initialization\n"),
		own + "disabled.desktop": autostarted("disabled", "X-GNOME-Autostart-enabled=false\n"),
		own + "skip.desktop":     autostarted("skip", "X-systemd-skip=true\n"),
		own + "only.desktop":     autostarted("only", "OnlyShowIn=GNOME;\n"),
		own + "hidden.desktop":   autostarted("hidden", "Hidden=true\n"),
	}
	maps.Copy(files, more)
	return files
}

// launchedBy are the names of what a survey of a tree says is launched.
func launchedBy(t *testing.T, dir string) (names []string) {
	t.Helper()
	r, err := machine.Open(dir)
	ok(t, err)
	defer r.Close()
	for _, it := range linux.Survey(r, family.Options{Now: time.Now()}).Items {
		if _, name, ok := strings.Cut(it.Command, "RAN/"); ok && it.State == item.On {
			names = append(names, strings.Trim(name, `"`))
		}
	}
	slices.Sort(names)
	return names
}

// desktops are session managers, with what they launch of a seat with lists of
// their own. Where Debian has one that runs without a screen, command starts
// it; the rest is from manuals.
var desktops = map[string]struct {
	session string // the file of the session
	files   map[string]string
	want    string
	command []string
	bench   bool // it is run by make bench-real alone
}{
	"i3": {
		session: "xsessions/i3.desktop Exec=i3 DesktopNames=i3",
		files: map[string]string{
			"home/maria/.config/i3/config": "exec --no-startup-id " + marked + "RAN/exec\n" +
				"exec \"" + marked + "RAN/quoted\"\nexec_always " + marked + "RAN/always\n" +
				"# exec " + marked + "RAN/comment\nbindsym Mod1+x exec " + marked + "RAN/bound\n" +
				"bar {\n status_command " + marked + "RAN/bar\n}\ninclude conf.d/*\n",
			"home/maria/.config/i3/conf.d/a": "exec " + marked + "RAN/included\n",
			"etc/i3/config":                  "exec " + marked + "RAN/shared\n",
		},
		want:    "always bar exec included quoted",
		command: []string{"i3"},
	},
	"sway": {
		session: "wayland-sessions/sway.desktop Exec=sway",
		files: map[string]string{
			"home/maria/.config/sway/config": "exec " + marked + "RAN/exec\nexec_always " + marked +
				"RAN/always\nbindsym Mod1+x exec " + marked + "RAN/bound\ninclude conf.d/*\n",
			"home/maria/.config/sway/conf.d/a": "exec " + marked + "RAN/included\n",
		},
		want:    "always exec included",
		command: []string{"sway"},
	},
	"lxsession": {
		session: "xsessions/LXDE.desktop Exec=/usr/bin/startlxde DesktopNames=LXDE",
		files: map[string]string{
			"home/maria/.config/lxsession/LXDE/autostart": "@" + marked + "RAN/kept\n#" + marked +
				"RAN/comment\n" + marked + "RAN/list\n",
			"etc/xdg/lxsession/LXDE/autostart": "@" + marked + "RAN/shared\n",
		},
		want:    "disabled kept list phase plain skip",
		command: []string{"dbus-run-session", "lxsession", "-s", "LXDE", "-e", "LXDE"},
	},
	"i3 with a starter": {
		session: "xsessions/i3.desktop Exec=i3 DesktopNames=i3",
		files: map[string]string{
			"home/maria/.config/i3/config": "exec --no-startup-id dex --autostart\n",
		},
		want: "disabled phase plain skip",
	},
	"gnome": {
		session: "wayland-sessions/gnome.desktop Exec=gnome-session DesktopNames=GNOME;",
		want:    "only phase plain",
	},
	"cinnamon": {
		session: "xsessions/cinnamon.desktop Exec=cinnamon-session DesktopNames=X-Cinnamon;",
		want:    "phase plain skip",
	},
	"mate": {
		session: "xsessions/mate.desktop Exec=mate-session DesktopNames=MATE;",
		want:    "disabled phase plain skip",
		command: []string{"dbus-run-session", "mate-session"},
		bench:   true,
	},
	"lxqt": {
		session: "xsessions/lxqt.desktop Exec=startlxqt DesktopNames=LXQt;",
		files: map[string]string{
			"home/maria/.config/lxqt/session.conf": "[General]\nwindow_manager=openbox\n",
		},
		want:    "disabled phase plain skip",
		command: []string{"dbus-run-session", "lxqt-session"},
		bench:   true,
	},
	"openbox": {
		session: "xsessions/openbox.desktop Exec=/usr/bin/openbox-session",
		want:    "disabled phase plain skip",
		command: []string{"openbox-session"},
		bench:   true,
	},
	"xfce without a session before": {
		session: "xsessions/xfce.desktop Exec=startxfce4 DesktopNames=XFCE;",
		want:    "disabled phase plain skip",
		command: []string{"dbus-run-session", "xfce4-session"},
		bench:   true,
	},
	"xfce": {
		session: "xsessions/xfce.desktop Exec=startxfce4 DesktopNames=XFCE;",
		files: map[string]string{
			"home/maria/.cache/sessions/xfce4-session-desk:0": "[Session: Default]\n" +
				"Client0_RestartCommand=/usr/bin/touch,RAN/restored\n",
		},
		want: "disabled phase plain restored skip",
	},
	"plasma": {
		session: "wayland-sessions/plasma.desktop Exec=startplasma-wayland DesktopNames=KDE",
		files: map[string]string{
			"home/maria/.config/plasma-workspace/env/a.sh": marked + "RAN/sourced &\n",
			"home/maria/.config/ksmserverrc": "[General]\nloginMode=restorePreviousLogout\n\n" +
				"[Session: saved at previous logout]\n" +
				"restartCommand1=/usr/bin/touch,RAN/restored\n",
		},
		want: "disabled plain restored sourced",
	},
	// Without a service manager of the user it launches the entries by itself:
	// what both ways launch, and what neither does.
	"plasma by itself": {
		session: "wayland-sessions/plasma.desktop Exec=startplasma-wayland DesktopNames=KDE",
		files: map[string]string{
			"home/maria/.config/autostart/phase.desktop":   "",
			"home/maria/.config/autostart/skip.desktop":    "",
			"home/maria/.config/plasma-workspace/env/a.sh": marked + "RAN/sourced &\n",
		},
		want:    "disabled plain sourced",
		command: []string{"dbus-run-session", "startplasma-x11"},
		bench:   true,
	},
	"labwc": {
		session: "wayland-sessions/labwc.desktop Exec=labwc DesktopNames=labwc;wlroots",
		files: map[string]string{
			"home/maria/.config/labwc/autostart": marked + "RAN/list &\n",
			"etc/xdg/labwc/autostart":            marked + "RAN/shared &\n",
		},
		want: "list shared",
	},
	"hyprland": {
		session: "wayland-sessions/hyprland.desktop Exec=Hyprland DesktopNames=Hyprland",
		files: map[string]string{
			"home/maria/.config/hypr/hyprland.conf": "exec-once = " + marked + "RAN/once\n" +
				"exec-once = [workspace 1 silent] " + marked + "RAN/ruled\nsource = more.conf\n",
			"home/maria/.config/hypr/more.conf": "exec = " + marked + "RAN/sourced\n",
		},
		want: "once ruled sourced",
	},
	"wayfire": {
		session: "wayland-sessions/wayfire.desktop Exec=wayfire DesktopNames=Wayfire",
		files: map[string]string{
			"home/maria/.config/wayfire.ini": "[core]\nplugins = a\n[autostart]\n" +
				"autostart_wf_shell = false\npanel = " + marked + "RAN/panel\n",
		},
		want: "panel",
	},
	"a manager that nobody knows": {
		session: "xsessions/quern.desktop Exec=quern-session DesktopNames=Quern",
		want:    "disabled phase plain skip",
	},
}

// makeSeat makes the tree of a desktop; RAN is its folder ran.
func makeSeat(t *testing.T, name string) string {
	t.Helper()
	d := desktops[name]
	at, rest, _ := strings.Cut(d.session, " ")
	files := seat(d.files)
	files["usr/share/"+at] = "[Desktop Entry]\nType=Application\nName=x\n" +
		strings.ReplaceAll(rest, " ", "\n") + "\n"
	return testtree.Make(t, files)
}

// TestWhatDesktopsLaunch holds the survey against what each session manager
// launches, by its manual.
func TestWhatDesktopsLaunch(t *testing.T) {
	for name, d := range desktops {
		t.Run(name, func(t *testing.T) {
			if got := strings.Join(launchedBy(t, makeSeat(t, name)), " "); got != d.want {
				t.Errorf("%s, want %s", got, d.want)
			}
		})
	}
}

// TestRealSessionManagers runs those that Debian has, in the home of a tree,
// and holds the survey of that against what they launched.
func TestRealSessionManagers(t *testing.T) {
	ring.Needs(t, ring.Middle)
	if os.Geteuid() != 0 {
		t.Skip("only root can run a session as somebody else")
	}
	for name, d := range desktops {
		if len(d.command) == 0 || d.bench && os.Getenv("CALMDAWN_DESKTOPS") == "" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for _, program := range append(d.command[:1:1], "Xvfb") {
				if _, err := exec.LookPath(program); err != nil && os.Getenv("CI") != "" {
					t.Fatal(err)
				} else if err != nil {
					t.Skip(err)
				}
			}
			dir := makeSeat(t, name)
			want := launchedBy(t, dir)
			ran := dir + "/ran"
			const uid = 65534 // nobody's
			err := filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
				if err == nil && e.Type().IsRegular() {
					text, wrong := os.ReadFile(p)
					if wrong != nil {
						return wrong
					}
					placed := strings.ReplaceAll(string(text), "RAN", ran)
					err = os.WriteFile(p, []byte(placed), 0o644)
				}
				if err == nil {
					err = os.Chown(p, uid, uid)
				}
				return err
			})
			ok(t, err)
			for up := dir; up != "/" && up != os.TempDir(); up = filepath.Dir(up) {
				ok(t, os.Chmod(up, 0o755))
			}
			runtime := dir + "/runtime"
			ok(t, os.Mkdir(runtime, 0o700))
			ok(t, os.Chown(runtime, uid, uid))
			display := ""
			_, names, _ := strings.Cut(d.session, "DesktopNames=")
			names = strings.ReplaceAll(strings.Trim(names, ";"), ";", ":")
			start := func(out io.Writer, words ...string) {
				cmd := exec.Command(words[0], words[1:]...)
				cmd.Env = []string{
					"HOME=" + dir + "/home/maria", "PATH=" + os.Getenv("PATH"),
					"DISPLAY=" + display, "XDG_RUNTIME_DIR=" + runtime,
					"XDG_CONFIG_DIRS=" + dir + "/etc/xdg",
					"XDG_CURRENT_DESKTOP=" + names,
					"WLR_BACKENDS=headless", "WLR_LIBINPUT_NO_DEVICES=1", "WLR_RENDERER=pixman",
				}
				cmd.Dir, cmd.Stdout = dir, out
				cmd.SysProcAttr = &syscall.SysProcAttr{
					Credential: &syscall.Credential{Uid: uid, Gid: uid}, Setpgid: true,
				}
				ok(t, cmd.Start())
				t.Cleanup(func() {
					_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
					time.Sleep(200 * time.Millisecond)
					_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
					_ = cmd.Wait()
				})
			}
			if name != "sway" {
				number, out, err := os.Pipe()
				ok(t, err)
				start(out, "Xvfb", "-displayfd", "1", "-nolisten", "tcp")
				ok(t, out.Close())
				text := make([]byte, 20)
				n, err := number.Read(text)
				ok(t, err)
				display = ":" + strings.TrimSpace(string(text[:n]))
			}
			start(nil, d.command...)
			// it is given a long time for what it is to launch, and some more
			// for what it is not
			var got []string
			for range 150 {
				time.Sleep(200 * time.Millisecond)
				entries, err := os.ReadDir(ran)
				ok(t, err)
				got = nil
				for _, e := range entries {
					got = append(got, e.Name())
				}
				if slices.Equal(got, want) {
					break
				}
			}
			time.Sleep(2 * time.Second)
			entries, err := os.ReadDir(ran)
			ok(t, err)
			if !slices.Equal(got, want) || len(entries) != len(want) {
				t.Errorf("it launched %v, then %d; the survey says %v", got, len(entries), want)
			}
		})
	}
}

func ok(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
