package windows

import (
	"cmp"
	_ "embed"
	"errors"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/program"
	"calmdawn/internal/windows/registry"
)

// An identifier tells items who made what they launch.
type identifier struct {
	reg       *registry.Registry
	installed []installed
	maker     string // who made the operating system
}

func identify(reg *registry.Registry, items []item.Item) {
	id := &identifier{reg: reg, installed: installedOn(reg)}
	for _, name := range systemPrograms {
		if info, ok, _ := id.info(path.Join(reg.Windows, "System32", name)); ok &&
			info.Maker != "" {
			id.maker = info.Maker
			break
		}
	}
	machine.Each(len(items), func(i int) { id.attribute(&items[i]) })
}

// systemPrograms say who made the system, as far as they can be read.
var systemPrograms = []string{"ntoskrnl.exe", "kernel32.dll", "smss.exe", "svchost.exe"}

// info reads what a program says of itself; false where it says nothing. why
// says as a clause that it cannot be read.
func (id *identifier) info(p string) (info program.Info, ok bool, why string) {
	f, err := id.reg.Root.OpenFile(p)
	if err != nil {
		return info, false, cmp.Or(id.reg.Hindered(p), machine.Reason(err))
	}
	defer f.Close()
	own, err := program.Open(f)
	if errors.Is(err, program.ErrNone) {
		return info, false, ""
	}
	if err != nil {
		return info, false, cmp.Or(id.reg.Hindered(p), machine.Reason(err))
	}
	return own.Info(), true, ""
}

// attribute tells an item its maker and version, and whether it belongs to the
// operating system: by where its program is, and who made that. Everybody's
// drivers stand in folders of the system, and most of its own files carry no
// signature inside, so that none is no evidence.
func (id *identifier) attribute(it *item.Item) {
	var info program.Info
	known := false
	if it.Program != "" && it.State != item.Broken {
		if info, known, it.Unread = id.info(it.Program); it.Unread != "" {
			it.Opaque = "its program " + it.Program + " cannot be read: " + it.Unread
		}
	}
	if id.reg.Software == nil {
		it.Opaque = cmp.Or(it.Opaque, "SOFTWARE cannot be read, the part of the registry that "+
			"says what things are to the machine")
	}
	it.Maker = cmp.Or(it.Maker, strings.TrimSpace(info.Maker))
	if it.Summary == "" {
		it.Summary = info.Description
	}
	switch {
	case info.Signer != "":
		it.Signature = "there is one inside, by " + info.Signer + "; it was not verified"
	case info.Signed:
		it.Signature = "there is one inside; it was not verified"
	case known:
		it.Signature = "there is none inside"
	}
	it.System = id.ofSystem(it)
	if it.System {
		it.Maker = "operating system"
		return
	}
	if of, ok := id.installedIn(it.Program); ok {
		it.Package, it.Version, it.Installed = of.name, of.version, of.when
		if it.Maker == "" {
			it.Maker = of.maker
		}
	}
	if it.Version == "" {
		it.Version = info.Version
	}
}

// belonging is what tells a part of the operating system; system.toml explains
// it. It is read when a Windows disk is: the recorder does without.
var belonging = sync.OnceValue(func() (b struct {
	Places, Shared, Outside, Owners, Promotes []string
}) {
	if err := toml.Unmarshal(systemRule, &b); err != nil {
		panic("system.toml, which is built in, cannot be read: " + err.Error())
	}
	return b
})

//go:embed system.toml
var systemRule []byte

// ofSystem reports whether an item is a part of the operating system.
func (id *identifier) ofSystem(it *item.Item) bool {
	rule := belonging()
	in := func(places []string) bool {
		return slices.ContainsFunc(places, func(p string) bool {
			return launch.Folder(it.Program, path.Join(id.reg.Windows, p))
		})
	}
	switch {
	case strings.HasPrefix(it.ID, "service:session/"):
		return true
	case !in(rule.Places) || in(rule.Outside):
		return false
	case it.Maker != "" && id.maker != "": // which decides, whatever else says
		return strings.EqualFold(it.Maker, id.maker)
	case it.Opaque != "": // not known is not another's
		return true
	case slices.Contains(rule.Owners, id.reg.OwnerOf(it.Program)):
		return true
	}
	return !in(rule.Shared)
}

// An installed program is one that can be uninstalled, as the registry lists
// it.
type installed struct {
	folder               string // in small letters, inside the machine
	name, maker, version string
	when                 time.Time
}

// installedOn reads those of the machine and of its users.
func installedOn(reg *registry.Registry) (all []installed) {
	const list = registry.CurrentVersion + `\Uninstall`
	places := []registry.Place{
		reg.Machine(`SOFTWARE\` + list), reg.Machine(`SOFTWARE\Wow6432Node\` + list),
	}
	for _, u := range reg.Users {
		if u.Hive != nil && u.Account == registry.Person {
			places = append(places, reg.Of(u, `Software\`+list))
		}
	}
	for _, place := range places {
		for _, k := range reg.Keys(place) {
			of := installed{}
			of.name, _ = reg.Text(k, "DisplayName")
			of.maker, _ = reg.Text(k, "Publisher")
			of.version, _ = reg.Text(k, "DisplayVersion")
			if date, ok := reg.Text(k, "InstallDate"); ok {
				of.when, _ = time.Parse("20060102", date) // what is not a date is none
			}
			of.folder = folderOf(reg, k)
			if of.name != "" && of.folder != "" {
				all = append(all, of)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b installed) int { return len(b.folder) - len(a.folder) })
	return all
}

// folderOf is the folder of an installed program: as it says, or that of what
// uninstalls it. A folder that many share is none.
func folderOf(reg *registry.Registry, k registry.Place) string {
	for _, value := range []string{"InstallLocation", "DisplayIcon", "UninstallString"} {
		text, ok := reg.Text(k, value)
		if !ok || text == "" {
			continue
		}
		text = strings.TrimPrefix(text, `"`)
		if value != "InstallLocation" {
			text, _, _ = strings.Cut(text, `"`)
			i := strings.LastIndexAny(text, `\/`)
			if i < 0 {
				continue
			}
			text = text[:i]
		}
		p, _, ok := reg.Local(reg.Expand(strings.Trim(text, `"`), nil))
		dir := "/" + strings.ToLower(strings.Trim(strings.ReplaceAll(p, `\`, "/"), "/"))
		if deep := strings.Count(dir, "/"); !ok || deep < 2 ||
			dir == strings.ToLower(reg.Windows) || strings.HasPrefix(dir,
			strings.ToLower(reg.Windows)+"/") {
			continue
		}
		return dir
	}
	return ""
}

func (id *identifier) installedIn(p string) (installed, bool) {
	if p == "" {
		return installed{}, false
	}
	for _, of := range id.installed { // the deepest folder first
		if launch.Folder(p, of.folder) {
			return of, true
		}
	}
	return installed{}, false
}

// reference is a title that stands in another file: @FILE,-NUMBER, with a
// remark behind it.
var reference = regexp.MustCompile(`^@(.+),\s*-(\d+)(?:;.*)?$`)

// languageFolder is where texts in a language stand beside a program.
var languageFolder = regexp.MustCompile(`^[a-z]{2,3}-[A-Z][A-Za-z]{1,3}(-[A-Za-z]+)?$`)

// languages are those that the machine shows its texts in, the preferred first,
// as tags: de-DE.
func languages(reg *registry.Registry) (tags []string) {
	const mui = `SYSTEM\CurrentControlSet\Control\MUI\`
	if v, ok := reg.Value(reg.Machine(mui+`Settings`), "PreferredUILanguages"); ok {
		tags, _ = v.Texts()
	}
	for _, k := range reg.Keys(reg.Machine(mui + `UILanguages`)) {
		tags = append(tags, k.Key.Name())
	}
	return tags
}

// referred is the text that a reference means, in the first of some languages
// that has it, else in any. It is empty where it cannot be found.
func referred(reg *registry.Registry, text string, tags []string) string {
	m := reference.FindStringSubmatch(text)
	if m == nil {
		return ""
	}
	number, err := strconv.ParseUint(m[2], 10, 32)
	t := launch.Finder{Reg: reg}.Find(launch.Line{Text: `"` + m[1] + `"`, Service: true})
	if err != nil || t.Fate != launch.Found {
		return ""
	}
	dir, name := path.Split(t.Program)
	files := []string{}
	if entries, err := reg.Root.ReadDir(dir); err == nil {
		for _, e := range entries {
			if e.Kind == machine.Folder && languageFolder.MatchString(e.Name) {
				files = append(files, path.Join(dir, e.Name, name+".mui"))
			}
		}
	}
	rank := func(p string) int {
		i := slices.IndexFunc(tags, func(tag string) bool {
			return strings.EqualFold(tag, path.Base(path.Dir(p)))
		})
		if i < 0 {
			return len(tags)
		}
		return i
	}
	slices.SortStableFunc(files, func(a, b string) int { return rank(a) - rank(b) })
	for _, p := range append(files, t.Program) {
		if found := textIn(reg, p, uint32(number)); found != "" {
			return found
		}
	}
	return ""
}

// refer puts texts in the place of references to them.
func refer(reg *registry.Registry, items []item.Item) {
	tags := languages(reg)
	for i := range items {
		it := &items[i]
		for _, text := range []*string{&it.Title, &it.Summary} {
			if !strings.HasPrefix(*text, "@") {
				continue
			}
			found := referred(reg, *text, tags)
			if found == "" && text == &it.Title {
				found = it.Native
			}
			*text = found
		}
	}
}

// textIn is a text of a file by its number; empty where it has none.
func textIn(reg *registry.Registry, p string, number uint32) string {
	at, err := reg.Find(p)
	if err != nil {
		return ""
	}
	f, err := reg.Root.OpenFile(at)
	if err != nil {
		return ""
	}
	defer f.Close()
	own, err := program.Open(f)
	if err != nil {
		return ""
	}
	text, _ := own.Text(number)
	return text
}
