package registry

import (
	"cmp"
	"maps"
	"strings"

	"calmdawn/internal/windows/codepage"
	"calmdawn/internal/windows/hive"
)

// machineVars are the variables that every process of the machine has, by their
// names in upper case.
func (reg *Registry) machineVars() map[string]string {
	if reg.vars != nil {
		return maps.Clone(reg.vars)
	}
	root := reg.Outside(reg.Windows)
	current := reg.Machine(`SOFTWARE\` + CurrentVersion)
	from := func(name, otherwise string) string {
		text, _ := reg.Text(current, name)
		return cmp.Or(text, reg.Drive+otherwise)
	}
	common := `\Program Files (x86)\Common Files`
	vars := map[string]string{
		"SYSTEMROOT":              root,
		"WINDIR":                  root,
		"SYSTEMDRIVE":             reg.Drive,
		"PROGRAMFILES":            from("ProgramFilesDir", `\Program Files`),
		"PROGRAMW6432":            from("ProgramFilesDir", `\Program Files`),
		"PROGRAMFILES(X86)":       from("ProgramFilesDir (x86)", `\Program Files (x86)`),
		"COMMONPROGRAMFILES":      from("CommonFilesDir", `\Program Files\Common Files`),
		"COMMONPROGRAMFILES(X86)": from("CommonFilesDir (x86)", common),
		"PROGRAMDATA":             reg.Drive + `\ProgramData`,
		"ALLUSERSPROFILE":         reg.Drive + `\ProgramData`,
		"PUBLIC":                  reg.Drive + `\Users\Public`,
		"PATH":                    root + `\System32;` + root,
		"COMSPEC":                 root + `\System32\cmd.exe`,
	}
	list := reg.Machine(`SOFTWARE\` + CurrentNT + `\ProfileList`)
	for name, key := range map[string]string{"ProgramData": "PROGRAMDATA", "Public": "PUBLIC"} {
		if text, ok := reg.Text(list, name); ok {
			vars[key] = expand(text, vars)
		}
	}
	reg.addVars(vars, reg.Machine(`SYSTEM\CurrentControlSet\Control\Session Manager\Environment`))
	reg.vars = vars
	return maps.Clone(vars)
}

// addVars adds the variables of a key of them.
func (reg *Registry) addVars(vars map[string]string, p Place) {
	values := reg.Values(p)
	for _, kind := range []hive.Type{hive.String, hive.Expand} { // those stand on these
		for _, v := range values {
			text, ok := v.Text()
			name := hive.Upper(v.Name)
			switch {
			case !ok || v.Type != kind || name == "":
			case name == "PATH" && vars["PATH"] != "" && p.Name[:4] == "HKCU":
				vars[name] += ";" + expand(text, vars) // a user's goes behind the machine's
			default:
				vars[name] = expand(text, vars)
			}
		}
	}
}

// CodePage is the machine's own, in which texts are that are not Unicode.
func (reg *Registry) CodePage() codepage.Page {
	const pages = `SYSTEM\CurrentControlSet\Control\Nls\CodePage`
	number, _ := reg.Text(reg.Machine(pages), "ACP")
	return codepage.Numbered(number)
}

// Vars are the variables of a user's processes; of nil those of the machine's.
func (reg *Registry) Vars(u *User) map[string]string {
	if u == nil {
		_ = reg.machineVars()
		return reg.vars
	}
	if u.vars == nil {
		u.vars = reg.machineVars()
		if u.Profile != "" {
			home := u.home
			u.vars["USERPROFILE"] = home
			u.vars["APPDATA"] = home + `\AppData\Roaming`
			u.vars["LOCALAPPDATA"] = home + `\AppData\Local`
			u.vars["TEMP"] = home + `\AppData\Local\Temp`
			u.vars["TMP"] = u.vars["TEMP"]
			u.vars["HOMEDRIVE"] = reg.Drive
			u.vars["HOMEPATH"] = strings.TrimPrefix(home, reg.Drive)
		}
		u.vars["USERNAME"] = u.Name
		reg.addVars(u.vars, reg.Of(u, "Environment"))
	}
	return u.vars
}

// Expand puts variables in a text in the place of their names; what is not
// known stays.
func (reg *Registry) Expand(text string, u *User) string { return expand(text, reg.Vars(u)) }

// expand replaces %NAME% once: what comes in is not looked at again.
func expand(text string, vars map[string]string) string {
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(text, "%")
		b.WriteString(before)
		if !ok {
			return b.String()
		}
		name, after, closed := strings.Cut(rest, "%")
		value, known := vars[hive.Upper(name)]
		switch {
		case closed && known:
			b.WriteString(value)
			text = after
		default:
			b.WriteByte('%')
			text = rest
		}
		if b.Len() > 1<<16 { // no line of a machine is as long
			return b.String()
		}
	}
}
