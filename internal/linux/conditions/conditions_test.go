//go:build linux

package conditions

import (
	"strings"
	"testing"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

func of(t *testing.T, files map[string]string, find func(*machine.Root) []boot.Condition) string {
	t.Helper()
	r, err := machine.Open(testtree.Make(t, files))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	var lines []string
	for _, c := range find(r) {
		mark := ""
		if c.Bad {
			mark = "mind "
		}
		if c.Why == "" || c.When == "" {
			t.Errorf("%s has no reason, or no moment: %+v", c.Name, c)
		}
		lines = append(lines, mark+c.Name+": "+c.Value)
	}
	return strings.Join(lines, "\n")
}

func TestOfAMountedDisk(t *testing.T) {
	status := "Package: a\nStatus: install ok installed\n\n" +
		"Package: b\nStatus: install ok half-configured\n\n" +
		"Package: c\nStatus: deinstall ok config-files\n"
	for _, c := range []struct {
		name  string
		files map[string]string
		want  string
	}{
		{
			"half installed",
			map[string]string{"var/lib/dpkg/status": status},
			"mind updates: half installed: 1",
		},
		{
			"a broken run",
			map[string]string{"var/lib/dpkg/updates/0001": ""},
			"mind updates: half installed: 1",
		},
		{
			"waiting for a boot",
			map[string]string{"system-update/x": ""},
			"mind updates: the next boot is to install some, or finish them (/system-update)",
		},
		{"nothing", map[string]string{"etc/x": ""}, "updates: none half installed"},
		{
			"kernels",
			map[string]string{"lib/modules/6.1.0-9/x": "", "lib/modules/6.1.0-10/x": ""},
			"kernel: installed: ",
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := of(t, c.files, Of)
			if !strings.Contains(got, c.want) {
				t.Errorf("%s\nwant %s", got, c.want)
			}
		})
	}
}

// TestTheBenchIsNotTheMachine has a root that is a folder of this computer's
// own file system: its disk is none of the machine's.
func TestTheBenchIsNotTheMachine(t *testing.T) {
	got := of(t, map[string]string{"etc/x": ""}, Of)
	for _, other := range []string{"disk", "memory", "power", "processor"} {
		if strings.Contains(got, other) {
			t.Errorf("the %s of the bench is told as the machine's:\n%s", other, got)
		}
	}
}

func TestABootLeavesOutWhatTakesLong(t *testing.T) {
	got := of(t, map[string]string{
		"var/lib/dpkg/status": "Package: b\nStatus: install ok half-installed\n",
	}, func(r *machine.Root) []boot.Condition { return OfBoot(r, nil) })
	if strings.Contains(got, "half installed: 1") {
		t.Errorf("it read the whole status:\n%s", got)
	}
}

func TestFailedServices(t *testing.T) {
	c := Failed(boot.Boot{Spans: []boot.Span{
		{Native: "a.service", Failed: true},
		{Native: "b.service"},
		{Native: "c.service", Owner: "maria", Failed: true},
	}})
	if c.Value != "a.service" || !c.Bad {
		t.Errorf("%+v", c)
	}
	if c := Failed(boot.Boot{}); c.Bad || c.Value != "none in the last boot" {
		t.Errorf("%+v", c)
	}
}

// TestWhatIsNoWarning: the usual set-up of laptops and of virtual machines.
func TestWhatIsNoWarning(t *testing.T) {
	for _, c := range []struct {
		governor, driver string
		bad              bool
	}{
		{"powersave", "acpi-cpufreq", true}, {"powersave", "intel_cpufreq", true},
		{"powersave", "", true}, {"powersave", "intel_pstate", false},
		{"powersave", "amd-pstate-epp", false}, {"performance", "acpi-cpufreq", false},
	} {
		if bad := slow(c.governor, c.driver); bad != c.bad {
			t.Errorf("%s of %s is slow: %v", c.governor, c.driver, bad)
		}
	}
	for _, c := range []struct {
		device, rotating string
		bad              bool
	}{
		{"/sys/devices/pci0000:00/0000:00:04.0/virtio1/block/vda", "1", false},
		{"/sys/devices/pci0000:00/ata1/host0/block/sda", "1", true},
		{"/sys/devices/pci0000:00/ata1/host0/block/sda", "0", false},
		{"/sys/devices/vbd-51712/block/xvda", "1", false},
	} {
		if kind, bad := kindOf(c.device, c.rotating); bad != c.bad || kind == "" {
			t.Errorf("%s, %s: %s, %v", c.device, c.rotating, kind, bad)
		}
	}
}
