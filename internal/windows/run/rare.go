package run

import (
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
)

// What is launched from places that few look at is only shown: switching it
// there takes knowing why it stands there.
const (
	ofInstall = "Windows hands it on to the lists of users who log in to a terminal server: it " +
		"goes with the program that put it there"
	ofShell   = "it is loaded into the desktop: it goes with the program that put it there"
	ofPrompt  = "every command window runs it: it is changed in the running Windows alone"
	ofLoading = "other programs load it; were it wrong, none of them might start. Change it in " +
		"the running Windows only"
	ofImage = "it runs in another program's place, for a debugger or to hide: find out who set " +
		"it up first"
	ofParked = "the configuration page of Windows parked it, and puts it back: switch it on there"
)

// rare adds what the machine launches from such places.
func (l *reader) rare() {
	software := func(p string) registry.Place { return l.reg.Machine(`SOFTWARE\` + p) }
	for _, view := range []string{"", wow} {
		const install = registry.CurrentNT + `\Terminal Server\Install\Software\` + current
		for _, name := range []string{"Run", "RunOnce"} {
			l.entries(list{
				place: "terminal", key: software(view + install + `\` + name), narrow: view != "",
				once: name == "RunOnce", why: "users of a terminal server get it", fixed: ofInstall,
			})
		}
		l.objects(software(view+current+`\ShellServiceObjectDelayLoad`), view)
		l.libraries(software(view+registry.CurrentNT+`\Windows`), view != "")
		l.images(software(view + registry.CurrentNT + `\Image File Execution Options`))
		l.single(list{
			place: "prompt", key: software(view + `Microsoft\Command Processor`),
			why: "it runs when a command window opens", fixed: ofPrompt, fires: "when a command " +
				"window opens",
		}, "autorun", "AutoRun", false)
	}
	l.single(list{
		place: "policy", key: software(current + `\Policies\System`), fixed: ofLogin,
		why: "a policy has every login go through it",
	}, "shell", "Shell", false)
	for _, v := range l.reg.Values(l.reg.Machine(
		`SYSTEM\CurrentControlSet\Control\Session Manager\AppCertDlls`)) {
		key := l.reg.Machine(`SYSTEM\CurrentControlSet\Control\Session Manager\AppCertDlls`)
		if text, ok := v.Text(); ok && text != "" {
			l.loaded(key, v.Name, text, false)
		}
	}
	l.parked()
	for _, section := range []string{"Startup", "Logon"} {
		l.domain(software(current+`\Group Policy\Scripts\`+section), section, nil)
	}
}

// rareOf adds what a user's own registry launches from such places.
func (l *reader) rareOf(u *registry.User) {
	own := func(p string) registry.Place { return l.reg.Of(u, `Software\`+p) }
	l.single(list{
		place: "policy", key: own(current + `\Policies\System`), user: u, fixed: ofLogin,
		why: "a policy has the login go through it",
	}, "shell", "Shell", false)
	l.single(list{
		place: "prompt", key: own(`Microsoft\Command Processor`), user: u, fixed: ofPrompt,
		why: "it runs when a command window opens", fires: "when a command window opens",
	}, "autorun", "AutoRun", false)
	l.domain(own(current+`\Group Policy\Scripts\Logon`), "Logon", u)
}

// objects adds the classes that the desktop loads.
func (l *reader) objects(key registry.Place, view string) {
	for _, v := range l.reg.Values(key) {
		class, ok := v.Text()
		if !ok || class == "" {
			continue
		}
		server := l.reg.Machine(`SOFTWARE\Classes\` + view + `CLSID\` + class + `\InprocServer32`)
		file, ok := l.reg.Text(server, "")
		if !ok {
			continue // a class of nobody loads nothing
		}
		l.add(entry{
			list: list{place: "desktop", key: key, narrow: view != "", fixed: ofShell,
				why: "the desktop loads it"},
			name: v.Name, title: v.Name, value: v.Name, line: `"` + strings.Trim(file, `"`) + `"`,
		})
	}
}

// libraries adds what is loaded into every program that has windows, where a
// switch has it so.
func (l *reader) libraries(key registry.Place, narrow bool) {
	names, _ := l.reg.Text(key, "AppInit_DLLs")
	on, _ := l.reg.Number(key, "LoadAppInit_DLLs")
	for _, name := range strings.FieldsFunc(names, func(r rune) bool {
		return r == ' ' || r == ','
	}) {
		it := l.loaded(key, "AppInit_DLLs", name, narrow)
		if on == 0 {
			it.State, it.Why = item.Off, "LoadAppInit_DLLs switches all of it off"
		}
	}
}

// loaded adds a library that other programs load.
func (l *reader) loaded(key registry.Place, value, line string, narrow bool) *item.Item {
	name := path.Base(strings.ReplaceAll(line, `\`, "/"))
	return l.add(entry{
		list: list{place: "library", key: key, narrow: narrow, fixed: ofLoading,
			why: "other programs load it as they start"},
		name: name, title: name, value: value, line: `"` + strings.Trim(line, `"`) + `"`,
	})
}

// images adds what runs in the place of other programs, and what is told of
// their end.
func (l *reader) images(key registry.Place) {
	for _, k := range l.reg.Keys(key) {
		if line, ok := l.reg.Text(k, "Debugger"); ok && strings.TrimSpace(line) != "" {
			name := k.Key.Name()
			l.add(entry{
				list: list{place: "instead", key: k, fixed: ofImage,
					why: "it runs instead of " + name, fires: "when " + name + " is launched"},
				name: name, title: "instead of " + name, value: "Debugger", line: line,
			})
		}
	}
	silent := l.reg.Machine(`SOFTWARE\` + registry.CurrentNT + `\SilentProcessExit`)
	for _, k := range l.reg.Keys(silent) {
		if line, ok := l.reg.Text(k, "MonitorProcess"); ok && strings.TrimSpace(line) != "" &&
			!strings.Contains(key.Name, "Wow6432Node") {
			name := k.Key.Name()
			l.add(entry{
				list: list{place: "instead", key: k, fixed: ofImage,
					why: "it runs when " + name + " ends", fires: "when " + name + " ends"},
				name: name, title: "after " + name, value: "MonitorProcess", line: line,
			})
		}
	}
}

// parked adds what the older configuration page of Windows took out of the
// lists, and keeps.
func (l *reader) parked() {
	var lists []registry.Place
	for _, tool := range l.reg.Keys(l.reg.Machine(`SOFTWARE\Microsoft\Shared Tools`)) {
		for _, name := range []string{"startupreg", "startupfolder"} {
			lists = append(lists, l.reg.Below(tool, name))
		}
	}
	for _, parked := range lists {
		for _, k := range l.reg.Keys(parked) {
			line, ok := l.reg.Text(k, "command")
			if !ok || strings.TrimSpace(line) == "" {
				continue
			}
			it := l.add(entry{
				list: list{place: "parked", key: k, fixed: ofParked},
				name: k.Key.Name(), title: k.Key.Name(), value: "command", line: line,
			})
			it.State, it.Why = item.Off, "the configuration page of Windows parked it"
		}
	}
}

// domain adds the scripts of a domain's policies as the last login, or boot,
// noted them; what the machine's own lists have stands there already.
func (l *reader) domain(key registry.Place, section string, u *registry.User) {
	for _, policy := range l.reg.Keys(key) {
		from, _ := l.reg.Text(policy, "FileSysPath")
		for _, k := range l.reg.Keys(policy) {
			script, ok := l.reg.Text(k, "Script")
			if !ok || script == "" {
				continue
			}
			words, _ := l.reg.Text(k, "Parameters")
			if !strings.ContainsAny(script, `\/`) {
				script = strings.TrimRight(from, `\`) + `\Scripts\` + section + `\` + script
			}
			name := path.Base(strings.ReplaceAll(script, `\`, "/"))
			if slices.ContainsFunc(l.items, func(it launched.Item) bool {
				return strings.HasPrefix(strings.ToLower(it.ID), "program:script/"+
					strings.ToLower(name)) || strings.HasPrefix(strings.ToLower(it.ID),
					"service:script/"+strings.ToLower(name))
			}) {
				continue
			}
			it := l.add(entry{
				list: list{place: "domain", key: k, user: u, fixed: ofPolicy,
					why: "a policy of the domain has it run"},
				name: name, title: stem(script), value: "Script",
				line: `"` + script + `" ` + words,
			})
			if it.Command = strings.TrimSpace(script + " " + words); section == "Startup" {
				it.When, it.Kind = item.AtBoot, item.Service
				it.ID = naming.ID(item.Service, "domain", name, "", it.Native)
			}
		}
	}
}
