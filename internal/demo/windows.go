package demo

import (
	"cmp"
	_ "embed"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/windows/hive"
)

//go:embed gnomon.toml
var gnomon []byte

// A till is what the Windows machine consists of; gnomon.toml explains the
// keys.
type till struct {
	Host, Build string
	Users       []struct{ Name, SID string }
	System      struct{ Auto, Late, Demand, Off, Drivers, Protected, Compressed, Tasks []string }
	Makers      []maker              `toml:"maker"`
	Cost        map[string][]float64 // of programs: seconds of processor time, MB read
}

type maker struct {
	Name, Product, Version, Folder string
	Gone, Security                 bool
	Services                       []struct {
		Key, Title, Run, Group string
		Start                  uint32
		Late, Host             bool
		Needs                  []string
	}
	Runs  []struct{ Name, Says, Run, List, User, Off string }
	Files []struct{ Name, Run, User string }
	Apps  []struct {
		Name, Task, Run, User string
		Off                   bool
	}
	Tasks []struct {
		Path, Trigger, Run, User, Late string
		Off, Hidden                    bool
	}
	Drivers []struct{ Key, Group string }
}

const (
	currentVersion = `Microsoft\Windows\CurrentVersion`
	currentNT      = `Microsoft\Windows NT\CurrentVersion`
	controlSet     = `ControlSet001`
	ownMaker       = "Operating system works" // of the parts of the system
	gnomonID       = "5b0c6c1e-7a52-4c0b-9d6e-6e6f6d6f6e21"
	packageID      = "k0dn7qz2r4w6e" // that one maker's packages have
)

// A disk is the Windows machine while it is made.
type disk struct {
	dir              string
	at               time.Time
	system, software *write.Key
	users            map[string]*write.Key
	classes          map[string]*write.Key // what is registered for a user alone
	err              error
}

// MakeWindows writes the Windows machine into a folder, as its disk stands now.
func MakeWindows(dir string, now time.Time) error {
	var t till
	if err := toml.Unmarshal(gnomon, &t); err != nil {
		return fmt.Errorf("gnomon.toml, which is built in, cannot be read: %w", err)
	}
	if err := mustBeEmpty(dir); err != nil {
		return err
	}
	d := &disk{
		dir:      dir,
		at:       now.AddDate(0, -3, 0),
		system:   &write.Key{Name: "ROOT"},
		software: &write.Key{Name: "ROOT"},
		users:    map[string]*write.Key{},
		classes:  map[string]*write.Key{},
	}
	d.frame(t)
	d.own(t)
	for _, m := range t.Makers {
		d.install(m)
	}
	const config = "Windows/System32/config/"
	d.write(config+"SYSTEM", write.Hive(d.system, 5, `\Config\SYSTEM`, d.at))
	d.write(config+"SOFTWARE", write.Hive(d.software, 5, `\Config\SOFTWARE`, d.at))
	for name, n := range d.users {
		d.write("Users/"+name+"/NTUSER.DAT", write.Hive(n, 5, `\ntuser.dat`, d.at))
	}
	for name, n := range d.classes {
		d.write("Users/"+name+"/AppData/Local/Microsoft/Windows/UsrClass.dat",
			write.Hive(n, 5, `\UsrClass.dat`, d.at))
	}
	const mornings = 6
	for n := range mornings {
		if d.err == nil {
			_, d.err = RebootTill(dir, Morning(now, n-mornings), uint64(n+1))
		}
	}
	return d.err
}

// write puts down a file, and the folders that it needs.
func (d *disk) write(p string, data []byte) {
	if d.err != nil {
		return
	}
	full := filepath.Join(d.dir, filepath.FromSlash(p))
	if d.err = os.MkdirAll(filepath.Dir(full), 0o755); d.err == nil {
		d.err = os.WriteFile(full, data, 0o644)
	}
	if d.err == nil {
		d.err = os.Chtimes(full, d.at, d.at)
	}
}

// program puts down a program of a maker.
func (d *disk) program(p string, info write.ProgramInfo) {
	if _, err := os.Stat(filepath.Join(d.dir, filepath.FromSlash(p))); err != nil {
		d.write(p, write.Program(info, nil))
	}
}

// compressed puts down what Linux's driver shows where Windows compressed a
// file in a form that it does not know.
func (d *disk) compressed(p string) {
	if d.err == nil {
		d.err = os.Symlink("unsupported reparse tag 0x80000017",
			filepath.Join(d.dir, filepath.FromSlash(p)))
	}
}

func str(name, text string) write.Datum { return write.Texted(name, hive.String, text) }
func exp(name, text string) write.Datum { return write.Texted(name, hive.Expand, text) }

// frame makes what every machine of the kind has.
func (d *disk) frame(t till) {
	d.system.At("Select").Set(write.Counted("Current", 1), write.Counted("Default", 1),
		write.Counted("Failed", 0), write.Counted("LastKnownGood", 1))
	control := d.system.At(controlSet + `\Control`)
	control.At(`ComputerName\ComputerName`).Set(str("ComputerName", t.Host))
	control.At("SystemInformation").Set(str("SystemManufacturer", "Tindle"),
		str("SystemProductName", "Tindle Bench 3"))
	d.system.At("HardwareConfig").Set(str("LastConfig", "{6b1f0a3c-77aa-4d0e-9a51-0f6e6f6d6f6e}"))
	control.At(`Session Manager`).Set(write.Listed("BootExecute", "autocheck autochk *"))
	control.At(`Session Manager\Power`).Set(write.Counted("HiberbootEnabled", 1))
	control.At(`Session Manager\Environment`).Set(
		exp("Path", `%SystemRoot%\system32;%SystemRoot%`), exp("windir", "%SystemRoot%"),
		str("NUMBER_OF_PROCESSORS", fmt.Sprint(tillProcessors)))
	control.At(`Power\User\PowerSchemes`).Set(
		str("ActivePowerScheme", "381b4222-f694-41f0-9685-ff5bb260df2e"))
	d.software.At(currentNT).Set(str("SystemRoot", `C:\Windows`), str("CurrentBuild", t.Build),
		str("CurrentVersion", "6.3"))
	d.software.At(`Microsoft\Cryptography`).Set(
		str("MachineGuid", gnomonID))
	d.software.At(currentNT+`\Winlogon`).Set(
		str("Userinit", `C:\Windows\system32\userinit.exe,`), str("Shell", "explorer.exe"))
	profiles := d.software.At(currentNT + `\ProfileList`)
	profiles.Set(exp("ProgramData", `%SystemDrive%\ProgramData`))
	for _, u := range t.Users {
		profiles.At(u.SID).Set(exp("ProfileImagePath", `%SystemDrive%\Users\`+u.Name))
		d.users[u.Name] = &write.Key{Name: "ROOT"}
	}
	d.software.At(currentVersion + `\Policies\Explorer`).Set(
		write.Counted("DisableLocalMachineRunOnce", 1))
	d.write("ProgramData/desktop.ini", nil)
}

// own makes the operating system's own parts.
func (d *disk) own(t till) {
	part := write.ProgramInfo{Maker: ownMaker, Version: "10.0." + t.Build}
	for _, name := range []string{"kernel32.dll", "svchost.exe", "userinit.exe", "autochk.exe"} {
		d.program("Windows/System32/"+name, part)
	}
	d.program("Windows/explorer.exe", part)
	const groups = currentNT + `\Svchost`
	var hosted []string
	for _, kind := range []struct {
		keys  []string
		start uint32
		late  bool
	}{
		{t.System.Auto, 2, false}, {t.System.Late, 2, true}, {t.System.Demand, 3, false},
		{t.System.Off, 4, false},
	} {
		for _, key := range kind.keys {
			library := strings.ToLower(key) + ".dll"
			if slices.Contains(t.System.Compressed, key) {
				d.compressed("Windows/System32/" + library)
			} else {
				d.program("Windows/System32/"+library, part)
			}
			s := d.service(key).Set(write.Counted("Type", 0x20), write.Counted("Start", kind.start),
				exp("ImagePath", `%SystemRoot%\System32\svchost.exe -k netsvcs -p`))
			s.At("Parameters").Set(exp("ServiceDll", `%SystemRoot%\System32\`+library))
			if kind.late {
				s.Set(write.Counted("DelayedAutostart", 1))
			}
			hosted = append(hosted, key)
		}
	}
	for _, key := range t.System.Protected {
		d.service(key).Set(write.Counted("LaunchProtected", 3))
	}
	d.software.At(groups).Set(write.Listed("netsvcs", hosted...))
	for _, key := range t.System.Drivers {
		file := strings.ToLower(key) + ".sys"
		d.program("Windows/System32/drivers/"+file, part)
		d.service(key).Set(write.Counted("Type", 1), write.Counted("Start", 1),
			exp("ImagePath", `System32\drivers\`+file), str("Group", "NDIS"))
	}
	d.program("Windows/System32/parts.exe", part)
	for _, p := range t.System.Tasks {
		d.task(`Microsoft\Windows\`+p, "daily", "", `%windir%\System32\parts.exe`, "", false)
	}
}

func (d *disk) service(key string) *write.Key {
	return d.system.At(controlSet + `\Services\` + key)
}

// user is the registry of a user, or the machine's, below which the same keys
// stand.
func (d *disk) user(name string) *write.Key {
	if name == "" {
		return d.software
	}
	return d.users[name].At("Software")
}

// install puts in what one maker has on the machine.
func (d *disk) install(m maker) {
	folder := cmp.Or(m.Folder, "Program Files") + "/" + m.Product
	outside := `C:\` + strings.ReplaceAll(folder, "/", `\`) + `\`
	// line is a launch line, whose program is put down
	line := func(run, says string) string {
		name, words, _ := strings.Cut(run, " ")
		if !m.Gone {
			d.program(folder+"/"+name, write.ProgramInfo{
				Maker:       m.Name,
				Product:     m.Product,
				Description: says,
				Version:     m.Version,
				Signed:      m.Security,
			})
		}
		return strings.TrimSpace(`"` + outside + name + `" ` + words)
	}
	if !m.Gone {
		d.software.At(currentVersion+`\Uninstall\`+m.Product).Set(str("DisplayName", m.Product),
			str("Publisher", m.Name), str("DisplayVersion", m.Version),
			str("InstallDate", d.at.Format("20060102")), str("InstallLocation", outside))
	}
	for _, s := range m.Services {
		n := d.service(s.Key).Set(write.Counted("Type", 0x10),
			write.Counted("Start", cmp.Or(s.Start, 2)), str("DisplayName", s.Title),
			str("ObjectName", "LocalSystem"))
		if s.Host {
			d.program("Windows/System32/svchost.exe", write.ProgramInfo{})
			_ = line(s.Run, s.Title)
			n.Set(write.Counted("Type", 0x20),
				exp("ImagePath", `%SystemRoot%\System32\svchost.exe -k `+s.Key))
			n.At("Parameters").Set(exp("ServiceDll", outside+s.Run))
			d.software.At(currentNT + `\Svchost`).Set(write.Listed(s.Key, s.Key))
		} else {
			n.Set(exp("ImagePath", line(s.Run, s.Title)))
		}
		if s.Late {
			n.Set(write.Counted("DelayedAutostart", 1))
		}
		if s.Group != "" {
			n.Set(str("Group", s.Group))
		}
		if len(s.Needs) > 0 {
			n.Set(write.Listed("DependOnService", s.Needs...))
		}
	}
	for _, r := range m.Runs {
		switch r.List {
		case "load":
			d.user(r.User).At(currentNT + `\Windows`).Set(str("load", line(r.Run, r.Name)))
			continue
		case "parked":
			d.software.At(`Microsoft\Shared Tools\Configuration\startupreg\` + r.Name).Set(
				str("command", line(r.Run, r.Name)))
			continue
		case "domain":
			_ = line(r.Run, r.Name)
			d.software.At(currentVersion + `\Group Policy\Scripts\Startup\0\0`).Set(
				str("Script", outside+r.Run))
			continue
		case "script":
			d.users[r.User].At("Environment").Set(
				str("UserInitMprLogonScript", line(r.Run, r.Name)))
			continue
		}
		key := map[string]string{
			"": `\Run`, "run32": `\Run`, "once": `\RunOnce`, "policy": `\Policies\Explorer\Run`,
		}[r.List]
		view := ""
		if r.List == "run32" {
			view = `Wow6432Node\`
		}
		d.user(r.User).At(view + currentVersion + key).Set(
			str(r.Name, line(r.Run, cmp.Or(r.Says, r.Name))))
		d.approve(r.User, "Run"+strings.TrimPrefix(r.List, "run"), r.Name, r.Off)
	}
	for _, f := range m.Files {
		d.startup(f.Name, f.User, line(f.Run, strings.TrimSuffix(f.Name, ".lnk")))
	}
	for _, a := range m.Apps {
		d.app(a.Name, a.Task, a.Run, a.User, m, a.Off)
	}
	for _, t := range m.Tasks {
		if t.Hidden {
			d.hidden(t.Path, line(t.Run, t.Path))
			continue
		}
		d.task(t.Path, t.Trigger, t.Late, line(t.Run, t.Path), t.User, t.Off)
	}
	for _, drv := range m.Drivers {
		d.program("Windows/System32/drivers/"+drv.Key+".sys", write.ProgramInfo{Maker: m.Name})
		d.service(drv.Key).Set(write.Counted("Type", 2), write.Counted("Start", 0),
			str("Group", drv.Group))
	}
	if m.Security {
		d.software.At(`Microsoft\Security Center\Provider\Av\{1}`).Set(
			str("PATHTOSIGNEDPRODUCTEXE", outside+"guard.exe"))
	}
}

// approve notes that an entry is off since a day.
func (d *disk) approve(user, list, name, since string) {
	day, err := time.Parse(time.DateOnly, since)
	if err != nil {
		return // it is on
	}
	data := binary.LittleEndian.AppendUint32(nil, 3)
	data = binary.LittleEndian.AppendUint64(data, hive.Filetime(day.Add(10*time.Hour)))
	d.user(user).At(currentVersion + `\Explorer\StartupApproved\` + list).Set(
		write.Raw(name, hive.Binary, data))
}

// startup puts a file into a folder of programs for the login.
func (d *disk) startup(name, user, line string) {
	const menu = "Microsoft/Windows/Start Menu/Programs/"
	dir := "ProgramData/" + menu + "StartUp/"
	if user != "" {
		dir = "Users/" + user + "/AppData/Roaming/" + menu + "Startup/"
	}
	target, words, _ := strings.Cut(strings.TrimPrefix(line, `"`), `"`)
	if !strings.HasSuffix(name, ".lnk") {
		d.write(dir+name, []byte(line+"\r\n"))
		return
	}
	d.write(dir+name, write.Shortcut(write.Link{
		Target:    target,
		Arguments: strings.TrimSpace(words),
		Name:      strings.TrimSuffix(name, ".lnk"),
	}))
}

// app installs a packaged app for a user, with a start-up task.
func (d *disk) app(name, task, run, user string, m maker, off bool) {
	full := name + "_" + m.Version + ".0.0_x64__" + packageID
	folder := "Program Files/WindowsApps/" + full + "/"
	d.write(folder+"AppxManifest.xml", []byte(`<?xml version="1.0" encoding="utf-8"?>`+"\r\n"+
		`<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10" `+
		`xmlns:desktop="http://schemas.microsoft.com/appx/manifest/desktop/windows10">`+
		"<Properties><DisplayName>"+strings.ReplaceAll(name, ".", " ")+"</DisplayName>"+
		"<PublisherDisplayName>"+m.Name+"</PublisherDisplayName></Properties><Applications>"+
		`<Application Id="App"><Extensions><desktop:Extension Category="windows.startupTask" `+
		`Executable="`+run+`"><desktop:StartupTask TaskId="`+task+`" Enabled="true" DisplayName="`+
		strings.ReplaceAll(name, ".", " ")+`"/></desktop:Extension></Extensions></Application>`+
		"</Applications></Package>\r\n"))
	d.program(folder+run, write.ProgramInfo{Maker: m.Name, Product: name, Version: m.Version})
	if d.classes[user] == nil {
		d.classes[user] = &write.Key{Name: "ROOT"}
	}
	model := d.classes[user].At(`Local Settings\Software\` + currentVersion + `\AppModel`)
	model.At(`Repository\Packages\` + full)
	state := uint32(2)
	if off {
		state = 1
	}
	model.At(`SystemAppData\` + name + "_" + packageID + `\` + task).Set(
		write.Counted("State", state))
}

// hidden has a task stand in the scheduler's list alone, at logins.
func (d *disk) hidden(p, line string) {
	text := func(data []byte, text string) []byte {
		units := utf16.Encode([]rune(text))
		data = binary.LittleEndian.AppendUint32(data, uint32(2*len(units)))
		for _, u := range units {
			data = binary.LittleEndian.AppendUint16(data, u)
		}
		return data
	}
	command, words, _ := strings.Cut(strings.TrimPrefix(line, `"`), `"`)
	const version, exec = 3, 0x6666
	data := text([]byte{version, 0}, "Author")
	data = text(binary.LittleEndian.AppendUint16(data, exec), "")
	data = text(text(text(data, command), strings.TrimSpace(words)), "")
	const cache, id = currentNT + `\Schedule\TaskCache\`, "{0000A11D-0000-4000-8000-000000000000}"
	d.software.At(cache + `Tree\` + p).Set(str("Id", id))
	d.software.At(cache + `Logon\` + id)
	d.software.At(cache+`Tasks\`+id).Set(str("Path", `\`+p),
		write.Raw("Actions", hive.Binary, append(data, 0, 0)))
}

// task registers a task.
func (d *disk) task(p, trigger, late, line, user string, off bool) {
	delay := ""
	if late != "" {
		delay = "<Delay>" + late + "</Delay>"
	}
	if user != "" {
		delay += "<UserId>" + user + "</UserId>"
	}
	const from = "<StartBoundary>2026-01-05T02:30:00</StartBoundary>"
	triggers := map[string]string{
		"boot":   "<BootTrigger>" + delay + "</BootTrigger>",
		"logon":  "<LogonTrigger>" + delay + "</LogonTrigger>",
		"idle":   "<IdleTrigger/>",
		"daily":  "<CalendarTrigger>" + from + "<ScheduleByDay/></CalendarTrigger>",
		"weekly": "<CalendarTrigger>" + from + "<ScheduleByWeek/></CalendarTrigger>",
	}
	command, words, _ := strings.Cut(strings.TrimPrefix(line, `"`), `"`)
	text := `<?xml version="1.0" encoding="UTF-16"?>` + "\r\n" +
		`<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">` +
		"<Triggers>" + triggers[trigger] + "</Triggers><Settings><Enabled>" + fmt.Sprint(!off) +
		"</Enabled></Settings><Actions><Exec><Command>" + command + "</Command><Arguments>" +
		strings.TrimSpace(words) + "</Arguments></Exec></Actions></Task>\r\n"
	raw := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(text)) {
		raw = binary.LittleEndian.AppendUint16(raw, u)
	}
	d.write("Windows/System32/Tasks/"+strings.ReplaceAll(p, `\`, "/"), raw)
	const cache = currentNT + `\Schedule\TaskCache\`
	id := fmt.Sprintf("{%08X-0000-4000-8000-000000000000}", len(p)*7919+int(p[len(p)-1])*104729)
	d.software.At(cache+`Tree\`+p).Set(str("Id", id), write.Counted("Index", 3),
		write.Raw("SD", hive.Binary, []byte{1, 0, 4, 0x80}))
	d.software.At(cache + `Tasks\` + id).Set(str("Path", `\`+p))
}
