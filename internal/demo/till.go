package demo

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/pelletier/go-toml/v2"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/windows/boots"
	"calmdawn/internal/windows/events"
	"calmdawn/internal/windows/hive"
)

// A run is one simulated restart of the Windows machine. It reads hives and
// start-up folders by its own means, as plainly as can be.
type run struct {
	dir      string
	till     till
	rng      *rand.Rand
	user     string
	sid      string
	set      string
	system   *hive.Hive
	software *hive.Hive
	services []part
	programs []part
	listed   []string // lines of the lists that were launched
}

// part is a program that takes part, with what it computes (seconds) and
// reads (MB).
type part struct {
	key, line string
	cpu, read float64
}

// Processors and disk of the machine.
const (
	tillProcessors = 2
	tillDisk       = 90 // MB a second
)

// IsTill reports whether dir holds the demo's Windows machine.
func IsTill(dir string) bool {
	h, close, err := openHive(dir, "Windows/System32/config/SOFTWARE")
	if err != nil {
		return false
	}
	defer close()
	k, err := h.Root().Key("Microsoft", "Cryptography")
	if err != nil {
		return false
	}
	v, err := k.Value("MachineGuid")
	text, _ := v.Text()
	return err == nil && text == gnomonID
}

func openHive(dir, p string) (*hive.Hive, func(), error) {
	f, err := os.Open(filepath.Join(dir, filepath.FromSlash(p)))
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	h, err := hive.Open(f, info.Size())
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return h, func() { f.Close() }, nil
}

// logOf is the file of an event log.
func logOf(dir, name string) string {
	return filepath.Join(dir, "Windows", filepath.FromSlash(boots.Logs), name)
}

const (
	systemLog = "System.evtx"
	timesLog  = "Microsoft-Windows-Diagnostics-Performance%4Operational.evtx"

	launchesLog = "Microsoft-Windows-Shell-Core%4Operational.evtx"
	sessionsLog = "Microsoft-Windows-TerminalServices-LocalSessionManager%4Operational.evtx"
)

// TillBoots returns how many boots the Windows machine in dir has in its log,
// and when the last of them began.
func TillBoots(dir string) (n int, last time.Time, err error) {
	f, err := os.Open(logOf(dir, systemLog))
	if os.IsNotExist(err) {
		return 0, time.Time{}, nil
	}
	if err != nil {
		return 0, time.Time{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, time.Time{}, err
	}
	_, err = events.Read(f, info.Size(), func(_ string, id uint16) bool { return id == 12 },
		func(e events.Event) { n, last = n+1, e.Time })
	return n, last, err
}

// RebootTill starts the demo's Windows machine in dir once, as a simulation,
// and returns how long it took until one could work. seed decides the noise.
func RebootTill(dir string, at time.Time, seed uint64) (time.Duration, error) {
	r := &run{dir: dir, rng: rand.New(rand.NewPCG(seed, 28))}
	if err := toml.Unmarshal(gnomon, &r.till); err != nil {
		return 0, fmt.Errorf("gnomon.toml, which is built in, cannot be read: %w", err)
	}
	for _, open := range []struct {
		hive **hive.Hive
		name string
	}{{&r.system, "SYSTEM"}, {&r.software, "SOFTWARE"}} {
		h, close, err := openHive(dir, "Windows/System32/config/"+open.name)
		if err != nil {
			return 0, err
		}
		defer close()
		*open.hive = h
	}
	user := r.till.Users[0]
	if seed%5 == 4 { // on one day of five the other one opens the shop
		user = r.till.Users[1]
	}
	r.user, r.sid = user.Name, user.SID
	if err := r.launch(); err != nil {
		return 0, err
	}
	return r.play(at)
}

// number and text read values of keys that may not be there.
func number(k hive.Key, name string) uint64 {
	v, err := k.Value(name)
	if err != nil {
		return 0
	}
	n, _ := v.Number()
	return n
}

func textOf(k hive.Key, name string) string {
	v, err := k.Value(name)
	if err != nil {
		return ""
	}
	text, _ := v.Text()
	return text
}

// launch finds what the next boot and login launch.
func (r *run) launch() error {
	choice, err := r.system.Root().Key("Select")
	if err != nil {
		return err
	}
	r.set = fmt.Sprintf("ControlSet%03d", number(choice, "Default"))
	services, err := r.system.Root().Key(r.set, "Services")
	if err != nil {
		return err
	}
	keys, err := services.Keys()
	if err != nil {
		return err
	}
	for _, k := range keys {
		image := textOf(k, "ImagePath")
		if parameters, err := k.Key("Parameters"); err == nil {
			image = textOf(parameters, "ServiceDll")
		}
		own := strings.Contains(image, "Program Files")
		if own && number(k, "Start") == 2 && number(k, "DelayedAutostart") == 0 {
			r.add(&r.services, k.Name, image)
		}
	}
	user, close, err := openHive(r.dir, "Users/"+r.user+"/NTUSER.DAT")
	if err != nil {
		return err
	}
	defer close()
	own, err := user.Root().Key("Software")
	if err != nil {
		return err
	}
	r.list(r.software.Root(), "", "Run")
	r.list(r.software.Root(), `Wow6432Node\`, "Run32")
	r.list(own, "", "Run")
	if k, err := own.Key(strings.Split(currentNT+`\Windows`, `\`)...); err == nil {
		r.line(textOf(k, "load"))
	}
	if k, err := user.Root().Key("Environment"); err == nil {
		r.line(textOf(k, "UserInitMprLogonScript"))
	}
	r.files(r.software.Root(), "ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp")
	r.files(own, "Users/"+r.user+
		"/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup")
	r.apps()
	return nil
}

// add has a program take part, with what it costs.
func (r *run) add(to *[]part, key, line string) {
	name := strings.Trim(line, `"`)
	if i := strings.Index(strings.ToLower(name), ".exe"); i >= 0 {
		name = name[:i+4]
	}
	base := strings.ToLower(name[strings.LastIndex(name, `\`)+1:])
	inside := strings.ReplaceAll(strings.TrimPrefix(name, "C:"), `\`, "/")
	if _, err := os.Stat(filepath.Join(r.dir, inside)); err != nil {
		return // it is gone
	}
	cost := []float64{0.25, 8}
	if known := r.till.Cost[base]; len(known) == 2 {
		cost = known
	}
	noise := math.Exp(0.06 * r.rng.NormFloat64())
	*to = append(*to, part{key, line, cost[0] * noise, cost[1] * noise})
}

func (r *run) line(text string) {
	if strings.TrimSpace(text) != "" {
		r.add(&r.programs, "", text)
	}
}

// list has the entries of a Run list launched that no note switches off.
func (r *run) list(root hive.Key, view, notes string) {
	k, err := root.Key(strings.Split(view+currentVersion+`\Run`, `\`)...)
	if err != nil {
		return
	}
	values, _ := k.Values()
	for _, v := range values {
		if text, ok := v.Text(); ok && !r.noted(root, notes, v.Name) {
			before := len(r.programs)
			if r.line(text); len(r.programs) > before {
				r.listed = append(r.listed, text)
			}
		}
	}
}

// noted reports whether a note says that an entry is off.
func (r *run) noted(root hive.Key, list, name string) bool {
	path := currentVersion + `\Explorer\StartupApproved\` + list
	k, err := root.Key(strings.Split(path, `\`)...)
	if err != nil {
		return false
	}
	v, err := k.Value(name)
	if err != nil {
		return false
	}
	data, _ := v.Data()
	return len(data) > 0 && data[0]&1 != 0
}

// files has the files of a start-up folder launched: of a shortcut what stands
// in it as a path.
func (r *run) files(root hive.Key, dir string) {
	entries, _ := os.ReadDir(filepath.Join(r.dir, dir))
	for _, e := range entries {
		raw, err := os.ReadFile(filepath.Join(r.dir, dir, e.Name()))
		if err != nil || r.noted(root, "StartupFolder", e.Name()) {
			continue
		}
		text := string(raw)
		if i := strings.Index(text, `C:\`); i >= 0 {
			end := strings.IndexAny(text[i:], "\x00\"\r")
			if end < 0 {
				end = len(text) - i
			}
			r.line(text[i : i+end])
		}
	}
}

// apps has the start-up tasks of packaged apps launched that are on.
func (r *run) apps() {
	classes, close, err := openHive(r.dir, "Users/"+r.user+
		"/AppData/Local/Microsoft/Windows/UsrClass.dat")
	if err != nil {
		return
	}
	defer close()
	for _, m := range r.till.Makers {
		for _, a := range m.Apps {
			full := a.Name + "_" + m.Version + ".0.0_x64__" + packageID
			path := `Local Settings\Software\` + currentVersion + `\AppModel\SystemAppData\` +
				a.Name + "_" + packageID + `\` + a.Task
			k, err := classes.Root().Key(strings.Split(path, `\`)...)
			if a.User == r.user && err == nil && number(k, "State") == 2 {
				r.line(`"C:\Program Files\WindowsApps\` + full + `\` + a.Run + `"`)
			}
		}
	}
}

// play works the boot out and writes it down: services compete until the login,
// programs after it, for two processors and one disk.
func (r *run) play(at time.Time) (time.Duration, error) {
	noise := func(seconds, share float64) float64 {
		return seconds * math.Exp(share*r.rng.NormFloat64())
	}
	compete := func(all []part) float64 {
		cpu, read, longest := 0.0, 0.0, 0.0
		for _, l := range all {
			cpu, read = cpu+l.cpu, read+l.read/tillDisk
			longest = max(longest, l.cpu+l.read/tillDisk)
		}
		return max(longest, cpu/tillProcessors+0.6*read)
	}
	kernel, drivers, session := noise(1.1, 0.05), noise(3.4, 0.05), noise(2.6, 0.05)
	services := noise(4.2, 0.05) + compete(r.services)
	profile, desktop := noise(1.3, 0.08), noise(2.2, 0.08)
	post := noise(5.5, 0.06) + compete(r.programs)
	wait := 6 + 30*r.rng.Float64()
	main := kernel + drivers + session + services + profile + desktop
	ms := func(s float64) write.Value { return write.Uint32(uint32(math.Round(s * 1000))) }
	after := func(s float64) time.Time {
		return at.Add(time.Duration(s * float64(time.Second))).Truncate(100)
	}
	n, last, err := TillBoots(r.dir)
	if err != nil {
		return 0, err
	}
	var system []write.Event
	note := func(when time.Time, provider string, id uint16, data ...write.Field) {
		system = append(system, write.Event{
			Time: when, Provider: provider, ID: id, Level: 4, Channel: "System",
			Computer: r.till.Host, Data: data,
		})
	}
	const general, log = "Microsoft-Windows-Kernel-General", "EventLog"
	if n > 0 {
		end := at.Add(-10 * time.Minute)
		if half := last.Add(at.Sub(last) / 2); half.After(end) {
			end = half
		}
		note(end, log, 6006)
		note(end, general, 13, write.Field{Name: "StopTime", Value: write.Instant(end)})
	}
	simulated := write.Field{Name: boots.Simulated, Value: write.Bool(true)}
	note(after(1), general, 12,
		write.Field{Name: "MajorVersion", Value: write.Uint32(10)},
		write.Field{Name: "MinorVersion", Value: write.Uint32(0)},
		write.Field{Name: "BuildVersion", Value: write.Uint32(19045)},
		write.Field{Name: "StartTime", Value: write.Instant(at)}, simulated)
	note(after(1.2), "Microsoft-Windows-Kernel-Boot", 27,
		write.Field{Name: "BootType", Value: write.Hex32(0)})
	note(after(9), log, 6005)
	note(after(main-desktop-profile+wait), "Microsoft-Windows-Winlogon", 7001,
		write.Field{Name: "TSId", Value: write.Uint32(1)},
		write.Field{Name: "UserSid", Value: write.SID(r.sid)})
	measured := []write.Event{{
		Time: after(main + wait + post + 30), Provider: "Microsoft-Windows-Diagnostics-Performance",
		ID: 100, Level: 3, Channel: "Microsoft-Windows-Diagnostics-Performance/Operational",
		Computer: r.till.Host, User: "S-1-5-19", Data: []write.Field{
			{Name: "BootTsVersion", Value: write.Uint32(2)},
			{Name: "BootStartTime", Value: write.Instant(at)},
			{Name: "BootEndTime", Value: write.Instant(after(main + wait + post))},
			{Name: "SystemBootInstance", Value: write.Uint32(uint32(n + 1))},
			{Name: "BootTime", Value: ms(main + wait + post)},
			{Name: "MainPathBootTime", Value: ms(main + wait)},
			{Name: "BootKernelInitTime", Value: ms(kernel)},
			{Name: "BootDriverInitTime", Value: ms(drivers)},
			{Name: "BootSmssInitTime", Value: ms(session)},
			{Name: "BootCriticalServicesInitTime", Value: ms(services)},
			{Name: "BootUserProfileProcessingTime", Value: ms(profile)},
			{Name: "BootExplorerInitTime", Value: ms(desktop)},
			{Name: "BootPostBootTime", Value: ms(post)},
			{Name: "UserLogonWaitDuration", Value: ms(wait)},
			{Name: "OSLoaderDuration", Value: ms(noise(1.4, 0.1))},
			{Name: "BootIsRebootAfterInstall", Value: write.Bool(false)}, simulated,
		},
	}}
	const slow = 1.5 // seconds
	for i, all := range [][]part{r.programs, r.services} {
		for _, l := range all {
			if l.cpu < slow {
				continue
			}
			name := strings.Trim(l.line, `"`)
			name, _, _ = strings.Cut(name, `"`)
			base := name[strings.LastIndex(name, `\`)+1:]
			measured = append(measured, write.Event{
				Time: measured[0].Time, Provider: measured[0].Provider, ID: uint16(101 + 2*i),
				Level: 3, Channel: measured[0].Channel, Computer: r.till.Host,
				Data: []write.Field{
					{Name: "StartTime", Value: write.Instant(at)},
					{Name: "Name", Value: write.Text(map[bool]string{
						true: base, false: l.key,
					}[i == 0])},
					{Name: "Path", Value: write.Text(name)},
					{Name: "TotalTime", Value: ms(l.cpu + l.read/tillDisk)},
					{Name: "DegradationTime", Value: ms(l.cpu - 1)},
				},
			})
		}
	}
	if err := r.append(systemLog, system); err != nil {
		return 0, err
	}
	if err := r.append(timesLog, measured); err != nil {
		return 0, err
	}
	const desktops = "Microsoft-Windows-Shell-Core"
	var launched []write.Event
	for i, line := range r.listed {
		for k, id := range []uint16{9707, 9708} {
			launched = append(launched, write.Event{
				Time:     after(main + wait + 0.3*float64(i) + 0.1*float64(k)),
				Provider: desktops, ID: id, Level: 4,
				Channel: desktops + "/Operational", Computer: r.till.Host, User: r.sid,
				Data: []write.Field{{Name: "Command", Value: write.Text(line)}, simulated},
			})
		}
	}
	if err := r.append(launchesLog, launched); err != nil {
		return 0, err
	}
	const sessions = "Microsoft-Windows-TerminalServices-LocalSessionManager"
	if err := r.append(sessionsLog, []write.Event{{
		Time: after(main - desktop + wait), Provider: sessions, ID: 22, Level: 4,
		Channel: sessions + "/Operational", Computer: r.till.Host, UserData: "EventXML",
		Data: []write.Field{
			{Name: "User", Value: write.Text(r.till.Host + `\` + r.user)},
			{Name: "SessionID", Value: write.Uint32(1)},
			{Name: "Address", Value: write.Text("LOCAL")},
			simulated,
		},
	}}); err != nil {
		return 0, err
	}
	usable := time.Duration((main + post) * float64(time.Second))
	return usable, r.trace(n, after(main+wait-desktop))
}

func (r *run) append(name string, all []write.Event) error {
	file := logOf(r.dir, name)
	old, err := os.ReadFile(file)
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return os.WriteFile(file, write.AppendEvents(old, all), 0o644)
}

// trace writes down what the login launched. The machine keeps five of them for
// each user.
func (r *run) trace(n int, login time.Time) error {
	const kept = 5
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\" encoding=\"UTF-16\"?>\r\n<StartupData>\r\n")
	order := slices.Clone(r.programs)
	r.rng.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
	for i, l := range order {
		name := strings.Trim(l.line, `"`)
		name, _, _ = strings.Cut(name, `"`)
		since := 2.5 + 0.4*float64(i)
		fmt.Fprintf(&b, "<Process Name=%q PID=\"%d\" StartedInTraceSec=\"%.3f\">\r\n"+
			"<StartTime>%s</StartTime>\r\n<CommandLine><![CDATA[%s]]></CommandLine>\r\n"+
			"<DiskUsage Units=\"bytes\">%d</DiskUsage>\r\n<CpuUsage Units=\"us\">%d</CpuUsage>\r\n"+
			"<ParentPID>3000</ParentPID>\r\n<ParentName>explorer.exe</ParentName>\r\n</Process>\r\n",
			strings.ToUpper(name[strings.LastIndex(name, `\`)+1:]), 4000+4*i, since,
			login.Add(time.Duration(since*float64(time.Second))).UTC().Format(
				"2006/01/02:15:04:05.0000000"),
			l.line, int64(l.read*1e6), int64(l.cpu*1e6))
	}
	b.WriteString("</StartupData>\r\n")
	raw := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(b.String())) {
		raw = binary.LittleEndian.AppendUint16(raw, u)
	}
	file := filepath.Join(r.dir, "Windows", filepath.FromSlash(boots.Traces),
		fmt.Sprintf("%s_StartupInfo%d.xml", r.sid, 1+n%kept))
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return os.WriteFile(file, raw, 0o644)
}
