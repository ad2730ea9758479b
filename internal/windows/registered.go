package windows

import (
	"path"
	"strings"

	"calmdawn/internal/core/item"
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
	{"security", valuesBelow(`SOFTWARE\Microsoft\Security Center\Provider\Av`,
		"PATHTOSIGNEDPRODUCTEXE")},
	{"security", valuesBelow(`SOFTWARE\Microsoft\Security Center\Provider\Fw`,
		"PATHTOSIGNEDPRODUCTEXE")},
	{"security", packages},
	{"network", providers},
	{"printing", valuesBelow(`SYSTEM\CurrentControlSet\Control\Print\Monitors`, "Driver")},
}

// classes are the libraries of classes that are named by keys below one.
func classes(p string) func(*registry.Registry) []string {
	return func(reg *registry.Registry) (files []string) {
		for _, k := range reg.Keys(reg.Machine(p)) {
			server := reg.Machine(`SOFTWARE\Classes\CLSID\` + k.Key.Name + `\InprocServer32`)
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

// register gives items the traits of what their program, or another one in its
// folder, is registered as. The system's own folder holds too much to tell
// anything.
func register(reg *registry.Registry, items []item.Item) {
	finder := launch.Finder{Reg: reg}
	as := map[string]string{} // by folder
	for _, r := range registrations {
		for _, file := range r.files(reg) {
			t := finder.Find(launch.Line{Text: `"` + strings.Trim(file, `"`) + `"`})
			if t.Fate == launch.Found && !launch.Folder(t.Program, reg.Windows) {
				as[strings.ToLower(path.Dir(t.Program))] = r.as + ": " + path.Base(t.Program)
			}
		}
	}
	for i := range items {
		it := &items[i]
		if what := as[strings.ToLower(path.Dir(it.Program))]; it.Program != "" && what != "" {
			it.Traits = append(it.Traits, "registered "+what)
		}
	}
}
