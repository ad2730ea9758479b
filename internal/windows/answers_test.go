//go:build linux

package windows

import (
	"os"
	"strings"
	"testing"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/item"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/windows/windowstest"
)

// TestATechniciansAnswers has the services of a used laptop and of a server
// judged, and holds advice and protection against what a technician said.
func TestATechniciansAnswers(t *testing.T) {
	table, err := os.ReadFile("testdata/services.tsv")
	if err != nil {
		t.Fatal(err)
	}
	disks := map[string]*windowstest.Disk{"laptop": windowstest.New(), "server": aServer()}
	answers := map[string]map[string]string{"laptop": {}, "server": {}}
	for line := range strings.Lines(string(table)) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		cells := append(strings.Split(strings.TrimSuffix(line, "\n"), "\t"), "", "")
		facts := map[string]string{}
		for fact := range strings.SplitSeq(cells[4], ";") {
			name, value, _ := strings.Cut(fact, "=")
			facts[name] = value
		}
		addService(disks[cells[0]], cells[1], cells[2], facts)
		answers[cells[0]][cells[1]] = cells[3]
	}
	rules, err := advice.Load(nil, roles)
	if err != nil {
		t.Fatal(err)
	}
	disks["laptop"].Service("Grown", windowstest.Auto(
		strings.Repeat("Ⱥ", 40)+`svchost.exe -k own`)...) // longer in small letters
	for name, d := range disks {
		for _, file := range []string{"kernel32.dll", "svchost.exe"} {
			d.Files["Windows/System32/"+file] = made("System Works", "")
		}
		found, _ := survey(t, d)
		for i := range found.Items {
			rules.Judge(&found.Items[i], nil)
		}
		rules.Vouch(found.Items)
		for native, want := range answers[name] {
			it, ok := found.Find("service:" + native)
			got := string(it.Advice)
			if it.Protected != "" {
				got += ", protected"
			}
			if !ok || it.State != item.On || got != want {
				t.Errorf("%s: %s (%s) is %s, %q: %s; want %q", name, native, it.Title, it.State,
					got, it.Reason, want)
			}
		}
	}
}

// addService adds one with what is known of it; without a title it is the
// system's.
func addService(d *windowstest.Disk, name, title string, facts map[string]string) {
	if title == "" {
		d.Service(name, windowstest.Auto(`%SystemRoot%\System32\svchost.exe -k own -p`)...)
		d.Service(name+`\Parameters`, grows("ServiceDll", `%SystemRoot%\System32\`+name+".dll"))
		d.Files["Windows/System32/"+name+".dll"] = made("System Works", "")
		return
	}
	dir := "Program Files/" + facts["maker"]
	if class := facts["inf"]; class != "" {
		dir = "Windows/System32/DriverStore/FileRepository/" + name + ".inf_amd64_01"
		d.Files[dir+"/"+name+".inf"] = "[Version]\r\nClass=" + class + "\r\n"
	}
	d.Files[dir+"/"+name+".exe"] = made(facts["maker"], title)
	s := d.Service(name, windowstest.Auto(`"C:\`+strings.ReplaceAll(dir, "/", `\`)+`\`+name+
		`.exe"`)...)
	s.Set(text("DisplayName", title))
	if facts["group"] != "" {
		s.Set(text("Group", facts["group"]))
	}
	if facts["needs"] != "" {
		s.Set(write.Listed("DependOnService", facts["needs"]))
	}
	driver := func(name string, values ...write.Datum) {
		d.Service(name, write.Counted("Type", 1), write.Counted("Start", 1),
			text("ImagePath", `System32\drivers\`+name+".sys")).Set(values...)
		d.Files["Windows/System32/drivers/"+name+".sys"] = made(facts["maker"], "")
	}
	if group := facts["filter"]; group != "" {
		driver(name+"Flt", text("Group", group))
	}
	if adapter := facts["adapter"]; adapter != "" {
		driver(adapter)
		d.System.At(`ControlSet001\Enum\ROOT\NET\0000`).Set(text("Service", adapter))
	}
}

// aServer holds a domain's directory, virtual machines, a shared printer, and
// the roles that were put in.
func aServer() *windowstest.Disk {
	d := windowstest.New()
	d.System.At(`ControlSet001\Control\ProductOptions`).Set(text("ProductType", "LanmanNT"))
	d.System.At(`ControlSet001\Control\Terminal Server`).Set(write.Counted("fDenyTSConnections", 0))
	d.System.At(`ControlSet001\Control\Print\Printers\Desk`).Set(write.Counted("Attributes", 0x248))
	d.Software.At(`Microsoft\Windows\CurrentVersion\WSMAN\Listener\*+HTTP`)
	for _, role := range strings.Fields("DHCP Web-Server AD-Certificate WDS UpdateServices NPAS " +
		"RDS-Licensing RDS-Connection-Broker") {
		d.Software.At(`Microsoft\ServerManager\ServicingStorage\ServerComponentCache\` + role).
			Set(write.Counted("InstallState", 1))
	}
	d.Files["ProgramData/Microsoft/Windows/Hyper-V/Virtual Machines/1.vmcx"] = ""
	return d
}
