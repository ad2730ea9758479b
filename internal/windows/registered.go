package windows

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/launch"
	"calmdawn/internal/windows/registry"
)

// A registration is a place of the registry where programs say what they are to
// the machine.
type registration struct {
	as string // what that is, as in traits
	// files are what is registered
	files func(*registry.Registry) []string
}

const authentication = `SOFTWARE\` + registry.CurrentVersion + `\Authentication\`

var registrations = []registration{
	{"login", classes(authentication + `Credential Providers`)},
	{"login", classes(authentication + `Credential Provider Filters`)},
	{"input", classes(`SOFTWARE\Microsoft\CTF\TIP`)},
	{"accessibility", valuesBelow(`SOFTWARE\`+registry.CurrentNT+`\Accessibility\ATs`, "StartEXE")},
	{"security", protectors},
	{"security", packages},
	{"network", providers},
	{"printing", valuesBelow(`SYSTEM\CurrentControlSet\Control\Print\Monitors`, "Driver")},
}

// classes are the libraries of classes that are named by keys below one.
func classes(p string) func(*registry.Registry) []string {
	return func(reg *registry.Registry) (files []string) {
		for _, k := range reg.Keys(reg.Machine(p)) {
			server := reg.Machine(`SOFTWARE\Classes\CLSID\` + k.Key.Name() + `\InprocServer32`)
			if text, ok := reg.Text(server, ""); ok {
				files = append(files, text)
			}
		}
		return files
	}
}

// valuesBelow are the values of a name in the keys below one.
func valuesBelow(p, value string) func(*registry.Registry) []string {
	return func(reg *registry.Registry) (files []string) {
		for _, k := range reg.Keys(reg.Machine(p)) {
			if text, ok := reg.Text(k, value); ok {
				files = append(files, text)
			}
		}
		return files
	}
}

// protectors are the programs that tell the security centre of themselves. By
// which value is told differently: any counts.
func protectors(reg *registry.Registry) (files []string) {
	const centre = `SOFTWARE\Microsoft\Security Center\Provider`
	for _, kind := range reg.Keys(reg.Machine(centre)) {
		for _, k := range reg.Keys(kind) {
			for _, value := range []string{
				"PATHTOSIGNEDPRODUCTEXE", "PRODUCTEXE", "REPORTINGEXE",
			} {
				if text, ok := reg.Text(k, value); ok && !slices.Contains(files, text) {
					files = append(files, text)
				}
			}
		}
	}
	return files
}

// packages are the libraries that see passwords.
func packages(reg *registry.Registry) (files []string) {
	lsa := reg.Machine(`SYSTEM\CurrentControlSet\Control\Lsa`)
	for _, value := range []string{"Security Packages", "Notification Packages"} {
		if v, ok := reg.Value(lsa, value); ok {
			names, _ := v.Texts()
			files = append(files, names...)
		}
	}
	return files
}

// providers are the libraries of the networks that shares are found in.
func providers(reg *registry.Registry) (files []string) {
	order, _ := reg.Text(
		reg.Machine(`SYSTEM\CurrentControlSet\Control\NetworkProvider\Order`), "ProviderOrder")
	for name := range strings.SplitSeq(order, ",") {
		own := reg.Machine(`SYSTEM\CurrentControlSet\Services\` + name + `\NetworkProvider`)
		if text, ok := reg.Text(own, "ProviderPath"); ok && name != "" {
			files = append(files, text)
		}
	}
	return files
}

// ofDrivers are what drivers of some load-order groups are to the machine.
var ofDrivers = map[string]string{
	"FSFILTER ANTI-VIRUS":        "security",
	"FSFILTER SECURITY ENHANCER": "security",
	"FSFILTER CONTENT SCREENER":  "security",
	"FSFILTER ENCRYPTION":        "security",
	"EARLY-LAUNCH":               "security",
	"NDIS":                       "network",
	"FSFILTER CONTINUOUS BACKUP": "backup",
}

// register gives items the traits of what their program, or another one in its
// folder, is registered as. It gives them those of what is near too: of the
// same maker, in the same folder of programs. The system's own folder holds too
// much to tell anything.
func register(reg *registry.Registry, items []item.Item) {
	finder := launch.Finder{Reg: reg}
	id := &identifier{reg: reg}
	as, near := map[string]string{}, map[string]string{} // by folder; and that with the maker
	own := map[string]bool{}                             // programs that are registered themselves
	far := makersOf(reg, items)
	note := func(what, program, maker string) {
		if what == "security" {
			far.add(what, program, maker)
		}
		if program == "" || launch.Folder(program, reg.Windows) {
			return
		}
		said := what + ": " + path.Base(program)
		as[strings.ToLower(path.Dir(program))], own[strings.ToLower(program)] = said, true
		if maker != "" {
			near[topOf(program)+"\n"+maker] = said
		}
	}
	for _, r := range registrations {
		for _, file := range r.files(reg) {
			t := finder.Find(launch.Line{Text: `"` + strings.Trim(file, `"`) + `"`})
			if t.Fate == launch.Found || t.Fate == launch.Unreadable {
				note(r.as, t.Program, id.makerOf(t.Program))
			}
		}
	}
	for _, it := range items {
		for _, trait := range it.Traits {
			if group, ok := strings.CutPrefix(trait, "group "); ok && it.Aside {
				if what := ofDrivers[strings.ToUpper(group)]; what != "" {
					note(what, it.Program, it.Maker)
				}
			}
		}
	}
	classes := map[string]class{}
	watchers := watchersOf(items)
	for i := range items {
		it := &items[i]
		if dir := path.Dir(it.Program); inStore.MatchString(dir) {
			class, known := classes[dir]
			if !known {
				class = classOf(reg, dir)
				classes[dir] = class
			}
			if class.name != "" {
				it.Traits = append(it.Traits, "class "+class.name)
			} else if class.why != "" {
				it.Opaque = cmp.Or(it.Opaque, "what its driver is for cannot be read: "+class.why)
			}
		}
		if promotes(it) && !own[strings.ToLower(it.Program)] {
			continue // to stand near is no evidence against its own
		}
		if what := as[strings.ToLower(path.Dir(it.Program))]; it.Program != "" && what != "" {
			it.Traits = append(it.Traits, "registered "+what)
		} else if what := cmp.Or(near[topOf(it.Program)+"\n"+it.Maker],
			near[topOf(it.Program)+"\n"+anybody], far.of(it),
			watchers.of(it)); what != "" && !it.Aside {
			it.Traits = append(it.Traits, "near "+what)
		}
	}
}

// watchers are the drivers that watch what is done with files, by their names
// in capitals. Others than what protects have such ones, so they speak for
// those services alone that cannot start without them.
type watchers map[string]*item.Item

func watchersOf(items []item.Item) watchers {
	w := watchers{}
	for i := range items {
		it := &items[i]
		if it.Aside && slices.ContainsFunc(it.Traits, func(trait string) bool {
			return strings.HasPrefix(strings.ToUpper(trait), "GROUP FSFILTER ACTIVITY")
		}) {
			w[strings.ToUpper(it.Native)] = it
		}
	}
	return w
}

func (w watchers) of(it *item.Item) string {
	for _, trait := range it.Traits {
		name, ok := strings.CutPrefix(trait, "needs ")
		if driver := w[strings.ToUpper(name)]; ok && driver != nil && !it.System &&
			plainMaker(driver.Maker) == plainMaker(it.Maker) {
			return "security: " + path.Base(driver.Program)
		}
	}
	return ""
}

// topOf is the folder of programs that a program is in, in small letters: of
// /Program Files/A/b/c.exe it is /program files/a.
func topOf(p string) string {
	parts := strings.SplitN(strings.ToLower(p), "/", 4)
	return strings.Join(parts[:min(3, len(parts))], "/")
}

// inStore is where packages of drivers are kept.
var inStore = regexp.MustCompile(`(?i)/System32/DriverStore/FileRepository/[^/]+`)

// classLine is the line of a driver's description that says of what class it
// is.
var classLine = regexp.MustCompile(`(?im)^\s*Class\s*=\s*"?([A-Za-z0-9_]+)`)

// A class of device is what a driver is for; empty where nothing says so. why
// says that it cannot be read.
type class struct{ name, why string }

// classOf is the class of device that the package of a driver in a folder is
// for.
func classOf(reg *registry.Registry, dir string) (c class) {
	const most = 1 << 20
	dir = inStore.FindString(dir)
	store, err := reg.Find(reg.Windows + dir)
	if err != nil {
		return class{}
	}
	entries, err := reg.Root.ReadDir(store)
	if err != nil {
		return class{why: machine.Reason(err)}
	}
	for _, e := range entries {
		if !strings.EqualFold(path.Ext(e.Name), ".inf") {
			continue
		}
		raw, err := reg.Root.ReadFile(path.Join(store, e.Name), most)
		if err != nil {
			c.why = cmp.Or(reg.Hindered(path.Join(store, e.Name)), machine.Reason(err))
			continue
		}
		if m := classLine.FindStringSubmatch(registry.Text(raw)); m != nil {
			return class{name: m[1]}
		}
	}
	return c
}
