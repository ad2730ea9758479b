// Package launch goes from a launch line of Windows to the program that is
// meant, as far as a disk can tell.
package launch

import (
	"cmp"
	"errors"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/registry"
)

// A Fate says what was found of a program.
type Fate int

// The fates of a program.
const (
	Found      Fate = iota
	Missing         // it would be on this disk, and is not
	Elsewhere       // on another disk, or another computer
	Unreadable      // whether it is there cannot be told
	Unnamed         // the line names no program
	Asked           // what it opens is found by what is registered, or set, elsewhere
)

// A Target is what a line launches.
type Target struct {
	Program string // inside the machine; where it is missing, as Windows calls it
	Fate    Fate
	Through string   // the program that launches it in turn, where the line is a wrapper's
	Risks   []string // as clauses: what else the line may be taken for
	Why     string   // what Elsewhere, Unreadable and Asked are about, as a clause
}

// Tell tells an item what became of its program.
func (t Target) Tell(it *item.Item) {
	switch t.Fate {
	case Found:
		it.Program = t.Program
	case Missing:
		it.State, it.Why = item.Broken, "its program is gone: "+t.Program
	case Elsewhere:
		it.Conditions = append(it.Conditions, t.Program+" is on a disk that is not here")
	case Unreadable:
		it.Program, it.Opaque = t.Program, t.Why
	case Asked:
		it.Conditions = append(it.Conditions, t.Why)
	case Unnamed:
		it.State, it.Why = item.Broken, "it names no program"
	}
}

// A Line is a launch line with what it means where it stands.
type Line struct {
	Text    string
	User    *registry.User // whose variables it has; nil for the machine
	Service bool           // it is a service's, whose paths may be short
	Narrow  bool           // a 32-bit program runs it: System32 means another folder
}

// A Finder finds programs on a disk.
type Finder struct{ Reg *registry.Registry }

// Find returns what a line launches, through wrappers.
func (f Finder) Find(l Line) Target { return f.find(l, 0) }

// narrowVariables have other values for 32-bit programs.
var narrowVariables = regexp.MustCompile(`(?i)%(ProgramFiles|CommonProgramFiles)%`)

// mostWrapped is how many wrappers are looked through.
const mostWrapped = 4

func (f Finder) find(l Line, depth int) Target {
	text := strings.TrimSpace(f.Reg.Expand(l.Text, l.User))
	if text == "" {
		return Target{Fate: Unnamed}
	}
	t, rest := f.program(l, text)
	if wide := narrowVariables.ReplaceAllString(l.Text, `%$1(x86)%`); t.Fate == Missing &&
		l.Narrow && wide != l.Text { // which of both is meant depends on who expands it
		return f.find(Line{Text: wide, User: l.User, Service: l.Service, Narrow: true}, depth)
	}
	if t.Fate == Unnamed || t.Fate == Elsewhere || t.Fate == Asked || depth == mostWrapped {
		return t
	}
	if own, ok := f.started(t, rest); ok {
		return own
	}
	wrapper := strings.TrimSuffix(Small(base(t.Program)), ".exe")
	in := Line{User: l.User, Narrow: l.Narrow}
	if in.Text = f.inside(in, wrapper, rest); in.Text == "" {
		return t
	}
	under := f.find(in, depth+1)
	switch {
	case under.Fate == Unnamed, t.Fate == Unreadable && under.Fate == Missing,
		wrapper == "explorer" && under.Fate != Found: // it shows a folder, or nothing
		return t
	}
	if under.Through == "" {
		under.Through = t.Program
	}
	under.Risks = append(t.Risks, under.Risks...)
	return under
}

// started finds what an updater starts that keeps each version of a program in
// a folder of its own, and is told the program's name.
func (f Finder) started(t Target, rest string) (Target, bool) {
	const word = "--processstart"
	i := strings.Index(Small(rest), word)
	if i < 0 || t.Fate != Found {
		return t, false
	}
	name := strings.TrimLeft(rest[i+len(word):], " =")
	if strings.HasPrefix(name, `"`) {
		name, _, _ = strings.Cut(name[1:], `"`)
	} else {
		name, _, _ = strings.Cut(name, " ")
	}
	if name == "" || strings.ContainsAny(name, `\/`) {
		return t, false
	}
	dir := path.Dir(t.Program)
	entries, err := f.Reg.Root.ReadDir(dir)
	if err != nil {
		return t, false
	}
	for _, e := range slices.Backward(entries) { // the newest by its name
		if e.Kind != machine.Folder {
			continue
		}
		if found, ok, _ := f.Reg.IsFile(path.Join(dir, e.Name, name)); ok {
			return Target{Program: found, Fate: Found, Through: t.Program}, true
		}
	}
	return t, false
}

func base(p string) string {
	return p[strings.LastIndexAny(p, `\/`)+1:]
}

// program returns what the first words of a line name, and what stands behind.
func (f Finder) program(l Line, text string) (Target, string) {
	if after, ok := strings.CutPrefix(text, `"`); ok {
		name, rest, closed := strings.Cut(after, `"`)
		if closed {
			return f.named(l, name), rest
		}
		text = after
	}
	var found []Target
	var rests []string
	for i := 0; i <= len(text); i++ {
		if i < len(text) && text[i] != ' ' && text[i] != '\t' {
			continue
		}
		if t := f.named(l, text[:i]); t.Fate == Found || t.Fate == Elsewhere ||
			t.Fate == Unreadable {
			found, rests = append(found, t), append(rests, text[i:])
		}
		if !strings.ContainsAny(text[:i], `\/`) || len(found) == 2 || i > 2000 {
			break // a name alone ends at the first blank
		}
	}
	if len(found) == 0 {
		name := firstProgram(text)
		return f.named(l, name), text[len(name):]
	}
	if len(found) == 2 && found[1].Fate == Found && found[1].Program != found[0].Program {
		found[0].Risks = append(found[0].Risks, "the line has no quotes, and may mean "+
			f.Reg.Outside(found[1].Program)+" as well")
	}
	return found[0], rests[0]
}

// firstProgram is the part of a line up to what looks like a program's end, or
// its first word.
func firstProgram(text string) string {
	lower := Small(text)
	for _, end := range []string{".exe", ".com", ".bat", ".cmd", ".sys", ".dll", ".scr"} {
		if i := strings.Index(lower, end); i >= 0 {
			if after := lower[i+len(end):]; after == "" || after[0] == ' ' || after[0] == ',' {
				return text[:i+len(end)]
			}
		}
	}
	name, _, _ := strings.Cut(text, " ")
	return name
}

// named finds what one name means.
func (f Finder) named(l Line, name string) Target {
	name = strings.TrimSpace(strings.ReplaceAll(name, "/", `\`))
	if l.Service {
		name = f.ofService(name)
	}
	if name == "" {
		return Target{Fate: Unnamed}
	}
	if protocol, ok := protocolOf(name); ok {
		return f.opened(l, protocol, name)
	}
	if strings.Contains(name, "%") {
		return Target{Program: name, Fate: Asked, Why: "it names a variable that is set nowhere " +
			"on this disk: " + name}
	}
	if !strings.Contains(name, `\`) && !strings.Contains(name, ":") {
		return f.searched(l, name)
	}
	if name[0] != '\\' && !strings.Contains(name, ":") {
		return f.relative(l, name)
	}
	p, letter, ok := f.Reg.Local(name)
	if !ok {
		return Target{Program: name, Fate: Elsewhere, Why: "it is on " + letter +
			", which is not this disk"}
	}
	return f.at(l, p, name)
}

// protocolOf is what stands before the colon of a name that is no path, by
// RFC 3986, section 3.1.
func protocolOf(name string) (string, bool) {
	protocol, _, ok := strings.Cut(name, ":")
	return protocol, ok && len(protocol) > 1 && strings.IndexFunc(protocol, func(c rune) bool {
		return c > unicode.MaxASCII || !unicode.IsLetter(c) && !unicode.IsDigit(c) && c != '+' &&
			c != '-' && c != '.'
	}) < 0
}

// relative finds a name that begins in a folder which the line does not tell.
func (f Finder) relative(l Line, name string) Target {
	asked := Target{Program: name, Fate: Asked, Why: "which folder it is launched from is not " +
		"known: " + name}
	if l.Service || name[0] == '.' {
		return asked
	}
	if t := f.searched(l, name); t.Fate == Found || t.Fate == Unreadable {
		return t
	}
	return asked
}

// opened finds what opens a name of a protocol, as a page or a setting has.
func (f Finder) opened(l Line, protocol, name string) Target {
	asked := Target{Program: name, Fate: Asked, Why: "what opens " + protocol + ": is found by " +
		"what is registered for that"}
	const command = `\shell\open\command`
	text, ok := f.Reg.Text(f.Reg.Machine(`SOFTWARE\Classes\`+protocol+command), "")
	if l.User != nil {
		if own, there := f.Reg.Text(f.Reg.ClassesOf(l.User, protocol+command), ""); there {
			text, ok = own, true
		}
	}
	if !ok || strings.Contains(Small(text), Small(protocol)+":") {
		return asked
	}
	if t, _ := f.program(l, strings.TrimSpace(f.Reg.Expand(text, l.User))); t.Fate == Found {
		return t
	}
	return asked
}

// ofService is the path of a service's image, which may begin at the system's
// folder.
func (f Finder) ofService(name string) string {
	lower := Small(name)
	root := f.Reg.Outside(f.Reg.Windows)
	switch {
	case strings.HasPrefix(lower, `\systemroot\`):
		return root + name[len(`\systemroot`):]
	case strings.HasPrefix(lower, `systemroot\`):
		return root + name[len(`systemroot`):]
	case strings.HasPrefix(lower, `system32\`), strings.HasPrefix(lower, `syswow64\`):
		return root + `\` + name
	}
	return name
}

// at finds a file at a path, with the end of a program's name or without it.
func (f Finder) at(l Line, p, called string) Target {
	t := Target{Program: called, Fate: Missing}
	for _, p := range views(l, p) {
		for _, end := range endings(l, p) {
			found, ok, err := f.Reg.IsFile(p + end)
			switch {
			case ok:
				return Target{Program: found, Fate: Found}
			case err != nil && t.Fate == Missing:
				inside := path.Join("/", strings.ReplaceAll(p, `\`, "/"))
				t = Target{Program: cmp.Or(found, inside), Fate: Unreadable,
					Why: "whether it is there cannot be told"}
				if refusal := (*machine.Refusal)(nil); errors.As(err, &refusal) {
					t.Why = refusal.Reason
				}
			}
		}
	}
	return t
}

// endings are what a name may go on with: a service is a program, what the
// shell opens may be a script as well.
func endings(l Line, p string) []string {
	switch {
	case l.Service:
		return []string{"", ".exe"}
	case strings.Contains(base(p), "."):
		return []string{"", ".exe", ".cmd"}
	}
	return []string{"", ".com", ".exe", ".bat", ".cmd", ".lnk"}
}

// views are the paths that one may mean: to a 32-bit program System32 is
// another folder.
func views(l Line, p string) []string {
	lower := Small(p)
	if i := strings.Index(lower, `\sysnative\`); i >= 0 {
		return []string{p[:i] + `\System32\` + p[i+len(`\sysnative\`):]}
	}
	if i := strings.Index(lower, `\system32\`); i >= 0 && l.Narrow {
		return []string{p[:i] + `\SysWOW64\` + p[i+len(`\system32\`):], p}
	}
	return []string{p}
}

// searched finds a name without a folder: where the system's programs are, on
// the path, and where programs say that they are.
func (f Finder) searched(l Line, name string) Target {
	vars := f.Reg.Vars(l.User)
	root := f.Reg.Outside(f.Reg.Windows)
	unreadable := Target{}
	dirs := append([]string{root + `\System32`, root}, strings.Split(vars["PATH"], ";")...)
	for _, own := range []string{`\Wbem`, `\WindowsPowerShell\v1.0`, `\OpenSSH`} {
		dirs = append(dirs, root+`\System32`+own) // on the path of every machine
	}
	for i, dir := range dirs {
		if dir = strings.TrimSpace(dir); dir == "" || slices.Contains(dirs[:i], dir) {
			continue
		}
		if p, _, ok := f.Reg.Local(dir + `\` + name); ok {
			t := f.at(l, p, name)
			if t.Fate == Found {
				return t
			}
			if t.Fate == Unreadable && unreadable.Program == "" {
				unreadable = t
			}
		}
	}
	for _, view := range []string{`SOFTWARE\`, `SOFTWARE\Wow6432Node\`} {
		for _, end := range []string{"", ".exe"} {
			app := f.Reg.Machine(view + registry.CurrentVersion + `\App Paths\` + name + end)
			if text, ok := f.Reg.Text(app, ""); ok {
				text = strings.Trim(f.Reg.Expand(text, l.User), `"`)
				if p, _, ok := f.Reg.Local(text); ok {
					return f.at(l, p, text)
				}
			}
		}
	}
	if unreadable.Program != "" {
		return unreadable
	}
	return Target{Program: name, Fate: Missing}
}

// Folder reports whether a path inside the machine is in a folder of it.
func Folder(p, dir string) bool {
	return strings.HasPrefix(strings.ToLower(p), strings.ToLower(path.Clean(dir))+"/")
}
