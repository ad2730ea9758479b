package run

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/launched"
	"calmdawn/internal/windows/naming"
	"calmdawn/internal/windows/registry"
)

// scripts adds those that policies have run at boots and logins: a list of them
// for the machine, and one for its users.
func (l *reader) scripts() {
	for _, of := range []struct{ folder, section string }{
		{"Machine", "Startup"}, {"User", "Logon"},
	} {
		for _, name := range []string{"scripts.ini", "psscripts.ini"} {
			dir := path.Join(l.reg.Windows, "System32/GroupPolicy", of.folder, "Scripts")
			p, err := l.reg.Find(path.Join(dir, name))
			if err != nil {
				continue
			}
			const most = 1 << 20
			raw, err := l.reg.Root.ReadFile(p, most)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				l.reg.Unread = append(l.reg.Unread, machine.Unread(p, err))
				continue
			}
			l.listed(p, registry.Text(raw), of.section)
		}
	}
}

// listed adds the scripts of one section of a list: each has a number, before
// the names of its parts.
func (l *reader) listed(p, text, section string) {
	lines, words := map[string]string{}, map[string]string{}
	var order []string
	inside := false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			inside = strings.EqualFold(strings.Trim(line, "[]"), section)
			continue
		}
		name, value, ok := strings.Cut(line, "=")
		digits := len(name) - len(strings.TrimLeft(name, "0123456789"))
		if !ok || !inside || digits == 0 {
			continue
		}
		switch number := name[:digits]; strings.ToLower(name[digits:]) {
		case "cmdline":
			lines[number] = value
			order = append(order, number)
		case "parameters":
			words[number] = value
		}
	}
	for _, number := range order {
		l.script(p, section, number, lines[number], words[number])
	}
}

// script adds one. A name without a folder stands in the folder of its section.
func (l *reader) script(p, section, number, line, words string) {
	file := strings.Trim(line, `"`)
	if !strings.ContainsAny(file, `\/`) {
		file = l.reg.Outside(path.Join(path.Dir(p), section)) + `\` + file
	}
	target := l.finder.Find(launch.Line{Text: `"` + file + `"`})
	native := fmt.Sprintf("%s %s %s", l.reg.Outside(p), section, number)
	kind, when := item.Program, item.AtLogin
	if section == "Startup" {
		kind, when = item.Service, item.AtBoot
	}
	name := path.Base(strings.ReplaceAll(file, `\`, "/"))
	it := item.Item{
		ID:      naming.ID(kind, "script", name, "", native),
		Kind:    kind,
		Native:  native,
		Title:   cmp.Or(stem(file), "a script"),
		When:    when,
		State:   item.On,
		Why:     "a policy has it run",
		Because: []string{l.reg.Outside(p)},
		Command: strings.TrimSpace(line + " " + words),
		File:    p,
	}
	switch target.Fate {
	case launch.Found:
		it.Program = target.Program
	case launch.Missing:
		it.State, it.Why = item.Broken, "its script is gone: "+file
	}
	l.items = append(l.items, launched.Item{
		Item: it, Turn: launched.Refuse(errors.New(ofPolicy)),
	})
}
