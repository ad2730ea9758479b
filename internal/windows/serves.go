package windows

import (
	"fmt"
	"path"
	"strings"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/registry"
)

// A server is what a machine may be to others, or to virtual machines of its
// own.
type server struct {
	services []string
	// why says as a clause by what it is seen that the machine is that; empty
	// where it is not.
	why func(*registry.Registry) string
}

var servers = []server{
	{
		[]string{"NTDS", "Kdc", "DNS", "Netlogon", "IsmServ", "DFSR", "DFS", "NtFrs", "ADWS",
			"W32Time"},
		func(reg *registry.Registry) string {
			kind, _ := reg.Text(reg.Machine(
				`SYSTEM\CurrentControlSet\Control\ProductOptions`), "ProductType")
			file, _ := reg.Text(reg.Machine(
				`SYSTEM\CurrentControlSet\Services\NTDS\Parameters`), "DSA Database file")
			if strings.EqualFold(kind, "LanmanNT") || file != "" {
				return "the machine holds the directory of a domain"
			}
			return ""
		},
	},
	{
		[]string{"TermService", "UmRdpService", "SessionEnv"},
		func(reg *registry.Registry) string {
			denied, ok := reg.Number(reg.Machine(
				`SYSTEM\CurrentControlSet\Control\Terminal Server`), "fDenyTSConnections")
			if ok && denied == 0 {
				return "people may work at the machine from afar"
			}
			return ""
		},
	},
	{
		[]string{"WinRM"},
		func(reg *registry.Registry) string {
			const listeners = `SOFTWARE\` + registry.CurrentVersion + `\WSMAN\Listener`
			if len(reg.Keys(reg.Machine(listeners))) > 0 {
				return "it is set up to be managed from afar"
			}
			return ""
		},
	},
	{[]string{"vmms", "vmcompute"}, virtualMachines},
	{
		[]string{"Spooler", "LanmanServer"},
		func(reg *registry.Registry) string {
			const shared = 8
			printers := reg.Machine(`SYSTEM\CurrentControlSet\Control\Print\Printers`)
			for _, k := range reg.Keys(printers) {
				if n, ok := reg.Number(k, "Attributes"); ok && n&shared != 0 {
					return "others print through its printer " + k.Key.Name()
				}
			}
			return ""
		},
	},
}

// roles are the services of what can be put in on a server, by its name there.
var rolesOf = map[string][]string{
	"DHCP": {"DHCPServer"}, "DNS": {"DNS"}, "Web-Server": {"W3SVC", "WAS", "IISADMIN"},
	"AD-Certificate": {"CertSvc"}, "ADCS-Cert-Authority": {"CertSvc"}, "WDS": {"WDSServer"},
	"UpdateServices": {"WsusService"}, "NPAS": {"IAS"}, "Hyper-V": {"vmms", "vmcompute"},
	"RDS-RD-Server": {"TermService", "SessionEnv"}, "RDS-Licensing": {"TermServLicensing"},
	"RDS-Connection-Broker": {"Tssdis"}, "Print-Server": {"Spooler"}, "Fax": {"Fax"},
	"FS-DFS-Replication": {"DFSR"}, "FS-DFS-Namespace": {"Dfs"}, "DirectAccess-VPN": {"RaMgmtSvc"},
}

// virtualMachines counts those that the machine holds.
func virtualMachines(reg *registry.Registry) string {
	dir, err := reg.Find("ProgramData/Microsoft/Windows/Hyper-V/Virtual Machines")
	if err != nil {
		return ""
	}
	entries, err := reg.Root.ReadDir(dir)
	if err != nil {
		return "its folder of virtual machines cannot be read"
	}
	n := 0
	for _, e := range entries {
		if end := strings.ToLower(path.Ext(e.Name)); end == ".vmcx" || end == ".xml" {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("it holds %d virtual machines", n)
}

// printsReceipts reports whether a printer of receipts is set up, as the
// standard for tills (UnifiedPOS, OPOS) registers one.
func printsReceipts(reg *registry.Registry) bool {
	for _, view := range []string{"", `Wow6432Node\`} {
		printers := reg.Machine(`SOFTWARE\` + view + `OLEforRetail\ServiceOPOS\POSPrinter`)
		if len(reg.Keys(printers)) > 0 {
			return true
		}
	}
	return false
}

// serve gives services the trait of what the machine serves by them, as far as
// that is seen. Being able to serve is no evidence.
func serve(reg *registry.Registry, items []item.Item) {
	uses := map[string]string{}
	for _, s := range servers {
		if why := s.why(reg); why != "" {
			for _, name := range s.services {
				uses[strings.ToUpper(name)] = why
			}
		}
	}
	const put = `SOFTWARE\Microsoft\ServerManager\ServicingStorage\ServerComponentCache`
	for _, k := range reg.Keys(reg.Machine(put)) {
		if state, ok := reg.Number(k, "InstallState"); ok && state == 1 {
			for _, name := range rolesOf[k.Key.Name()] {
				uses[strings.ToUpper(name)] = "the role " + k.Key.Name() + " was put in"
			}
		}
	}
	receipts := printsReceipts(reg)
	for i := range items {
		it := &items[i]
		if receipts && it.Kind == item.Service && strings.EqualFold(it.Native, "Spooler") {
			it.Traits = append(it.Traits, "prints receipts")
		}
		if why := uses[strings.ToUpper(it.Native)]; why != "" && it.Kind == item.Service {
			it.Traits = append(it.Traits, "serves: "+why)
		}
	}
}
