//go:build linux

package boottest_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// vmPackages are what a machine needs that boots by its own kernel.
const vmPackages = "systemd,systemd-sysv,dbus,udev,procps,kmod,libpam-systemd," +
	"linux-image-cloud-amd64,initramfs-tools"

// A vm is the disk of a whole virtual machine, and the kernel that boots from
// it.
type vm struct {
	work, disk, kernel, initrd string
}

func must(t testing.TB, name string, words ...string) string {
	t.Helper()
	out, err := exec.Command(name, words...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", name, words, err, out)
	}
	return string(out)
}

// newVM makes the disk with the recorder on it. Each boot ends by itself when
// it is recorded.
func newVM(t testing.TB, files map[string]string, change func(dir string)) *vm {
	t.Helper()
	cache, err := os.UserCacheDir()
	ok(t, err)
	root := filepath.Join(cache, "calmdawn", "bookworm-vm-1")
	if _, err := os.Stat(root); err != nil {
		must(t, "mmdebstrap", "--variant=minbase", "--include="+vmPackages, "bookworm", root+".new")
		ok(t, os.Rename(root+".new", root))
	}
	work := t.TempDir()
	dir := filepath.Join(work, "root")
	must(t, "cp", "-a", root, dir)
	testtree.Add(t, dir, map[string]string{
		"etc/fstab":                        "/dev/vda / ext4 defaults 0 1\n",
		"etc/hostname":                     "bench\n",
		"var/log/journal/":                 "",
		"etc/systemd/system/waits.service": unitOf("oneshot", "sleep 2"),
		"etc/systemd/system/multi-user.target.wants/waits.service": "-> ../waits.service",
		"usr/bin/finish": "sleep 30\nwhile [ " +
			"\"$(systemctl is-active calmdawn-recorder.service)\" = active ]; do sleep 10; done\n" +
			"systemctl --no-block poweroff\n",
		"etc/systemd/system/last.service": "[Unit]\n" +
			"After=multi-user.target\n[Service]\nExecStart=/bin/sh /usr/bin/finish\n",
		"etc/systemd/system/graphical.target.wants/last.service": "-> ../last.service",
	})
	testtree.Add(t, dir, files)
	if change != nil {
		change(dir)
	}
	must(t, program(t), "--root", dir, "recorder", "on", "--yes", "--boots", "50")
	kernels, _ := filepath.Glob(dir + "/boot/vmlinuz-*")
	initrds, _ := filepath.Glob(dir + "/boot/initrd.img-*")
	if len(kernels) != 1 || len(initrds) != 1 {
		t.Fatal("the fixture has no kernel")
	}
	v := &vm{
		work:   work,
		disk:   filepath.Join(work, "disk.img"),
		kernel: kernels[0],
		initrd: initrds[0],
	}
	must(t, "mke2fs", "-q", "-t", "ext4", "-d", dir, v.disk, "2500M")
	return v
}

// boot boots the machine and waits until it has switched itself off.
func (v *vm) boot(t testing.TB, words ...string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	defer cancel()
	start := time.Now()
	words = append([]string{
		"-m", "1024", "-smp", "2", "-nographic", "-no-reboot", "-net", "none",
	}, words...)
	console, err := exec.CommandContext(ctx, "qemu-system-x86_64", words...).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, console[max(0, len(console)-3000):])
	}
	t.Logf("%.0f s until it had switched itself off", time.Since(start).Seconds())
}

// left copies what the machine has written to a folder that our program can
// work on.
func (v *vm) left(t testing.TB) string {
	t.Helper()
	left, err := os.MkdirTemp(v.work, "left")
	ok(t, err)
	for _, folder := range []string{"/var/lib/calmdawn", "/var/log/journal"} {
		ok(t, os.MkdirAll(filepath.Join(left, filepath.Dir(folder)), 0o755))
		must(t, "debugfs", "-R", "rdump "+folder+" "+filepath.Join(left, filepath.Dir(folder)),
			v.disk)
	}
	ok(t, os.MkdirAll(left+"/etc", 0o755))
	must(t, "debugfs", "-R", "dump /etc/machine-id "+left+"/etc/machine-id", v.disk)
	ok(t, os.WriteFile(left+"/etc/passwd", nil, 0o644))
	return left
}

// TestVirtualMachine puts the recorder onto the disk of a whole virtual
// machine. It boots it twice by firmware and loader under software emulation,
// and reads what it left. `make bench-vm` runs it; it takes some minutes.
func TestVirtualMachine(t *testing.T) {
	if os.Getenv("CALMDAWN_VM") == "" {
		t.Skip("a whole virtual machine takes minutes; make bench-vm boots one")
	}
	v := newVM(t, nil, func(dir string) {
		// The service manager reads what the loader left if the kernel shows it
		// in time.
		ok(t,
			os.WriteFile(filepath.Join(dir, "etc/initramfs-tools/modules"), []byte("efivarfs\n"),
				0o644))
		must(t, "chroot", dir, "update-initramfs", "-u")
	})
	// A second disk from which the firmware boots: the loader tells the service
	// manager when it and the firmware were done.
	loader, variables, entry := filepath.Join(v.work,
		"loader.img"), filepath.Join(v.work, "variables.fd"), filepath.Join(v.work, "bench.conf")
	ok(t, os.WriteFile(entry, []byte("title bench\nlinux /vmlinuz\ninitrd /initrd\noptions "+
		"root=/dev/vda rw console=ttyS0 quiet\n"), 0o644))
	must(t, "mkfs.vfat", "-C", loader, "131072")
	must(t, "mmd", "-i", loader, "::/EFI", "::/EFI/BOOT", "::/loader", "::/loader/entries")
	for from, to := range map[string]string{
		v.kernel: "vmlinuz",
		v.initrd: "initrd",
		entry:    "loader/entries/bench.conf",
		"/usr/lib/systemd/boot/efi/systemd-bootx64.efi": "EFI/BOOT/BOOTX64.EFI",
	} {
		must(t, "mcopy", "-i", loader, from, "::/"+to)
	}
	must(t, "cp", "/usr/share/OVMF/OVMF_VARS_4M.fd", variables)
	for range 2 {
		v.boot(t, "-cpu", "qemu64,-hypervisor", // the loader trusts no clock of a hypervisor
			"-drive", "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd",
			"-drive", "if=pflash,format=raw,file="+variables,
			"-drive", "file="+v.disk+",format=raw,if=virtio", "-drive",
			"file="+loader+",format=raw,if=virtio")
	}
	left, p := v.left(t), program(t)
	out, err := exec.Command(p, "--root", left, "boots", "--json", "--spans").Output()
	ok(t, err)
	var list struct {
		Boots []struct {
			Ready      float64
			Phases     map[string]float64
			Sources    []string
			Kernel     string
			Processors int
			Memory     int64
			Odd        []string
			Settled    struct {
				FromReady float64 `json:"from_ready"`
			}
			Spans []struct {
				Native   string
				CPU      float64
				DiskRead int64 `json:"disk_read"`
			}
		}
	}
	ok(t, json.Unmarshal(out, &list))
	if len(list.Boots) != 2 {
		t.Fatalf("%d boots", len(list.Boots))
	}
	for _, b := range list.Boots {
		cpu, read := 0.0, int64(0)
		for _, s := range b.Spans {
			cpu += s.CPU
			read += s.DiskRead
		}
		t.Logf("ready %.1f s, phases %v, settled +%.1f s, from %v, kernel %s, %d processors, %d "+
			"MB; units used %.1f s, and read %d MB; odd: %v",
			b.Ready, b.Phases, b.Settled.FromReady, b.Sources, b.Kernel, b.Processors,
			b.Memory/1e6, cpu, read/1e6, b.Odd)
		for _, phase := range []string{"firmware", "loader", "kernel", "userspace"} {
			if b.Phases[phase] <= 0 {
				t.Errorf("the phase %s is missing", phase)
			}
		}
		if len(b.Sources) != 2 || b.Kernel == "" || b.Processors != 2 || b.Memory < 5e8 ||
			cpu < 1 || read < 1e6 {
			b.Spans = nil
			t.Errorf("something is missing: %+v", b)
		}
	}
	t.Log(strings.TrimSpace(must(t, p, "--root", left, "recorder", "status")))
}

// TestSlowDisk has units read much from a disk that gives little. It forecasts
// from two boots what it would be without some of them, with what the recorder
// saw of the disk and without. Then it takes them out, and boots again. Part of
// `make bench-vm`; it takes twenty minutes.
func TestSlowDisk(t *testing.T) {
	if os.Getenv("CALMDAWN_VM") == "" {
		t.Skip("a whole virtual machine takes minutes; make bench-vm boots one")
	}
	const wants = "etc/systemd/system/multi-user.target.wants/"
	files := map[string]string{}
	for name, kind := range map[string]string{
		"reads-a": "oneshot",
		"reads-b": "oneshot",
		"reads-c": "simple",
	} {
		files["etc/systemd/system/"+name+".service"] = unitOf(kind, "cat /opt/"+name+" >/dev/null")
		files[wants+name+".service"] = "-> ../" + name + ".service"
		files["opt/"+name] = strings.Repeat(name, 24<<20/len(name))
	}
	v := newVM(t, files, nil)
	again := func(n int) []boot.Boot {
		for range n {
			v.boot(t, "-kernel", v.kernel, "-initrd", v.initrd, "-append", "root=/dev/vda rw "+
				"console=ttyS0 quiet",
				"-drive", "file="+v.disk+",format=raw,if=virtio,throttling.bps-total=4000000")
		}
		r, err := machine.Open(v.left(t))
		ok(t, err)
		defer r.Close()
		all := recorded(t, r)
		return all[len(all)-n:]
	}
	mean := func(boots []boot.Boot) (sum time.Duration) {
		for _, b := range boots {
			sum += b.Ready.Value
		}
		return sum / time.Duration(len(boots))
	}
	again(1) // the first one does what only a first boot does
	before := again(2)
	for _, off := range [][]string{{"reads-a"}, {"reads-c"}, {"reads-a", "reads-c"}, {"waits"}} {
		set := forecast.Set{}
		for _, name := range off {
			set[boot.Key{Native: name + ".service"}] = true
			must(t, "debugfs", "-w", "-R", "rm /"+wants+name+".service", v.disk)
		}
		after := again(2)
		for _, name := range off {
			must(t, "debugfs", "-w", "-R", "symlink /"+wants+name+".service ../"+name+".service",
				v.disk)
		}
		var told [2]time.Duration
		for i := range told {
			for _, b := range before {
				if i == 1 {
					b.Course = slices.Clone(b.Course)
					for k := range b.Course {
						b.Course[k].Disk = 0
					}
				}
				r, err := forecast.New(b)
				if err != nil {
					t.Errorf("%v: %v", off, err)
					continue
				}
				out, _ := r.Without(set)
				then := b.Ready.Value - (r.Unchanged().Ready - out.Ready)
				told[i] += then / time.Duration(len(before))
			}
		}
		t.Logf("without %v: %.1f s after %.1f s; forecast %.1f s with the disk, %.1f s without",
			off, mean(after).Seconds(), mean(before).Seconds(), told[0].Seconds(),
			told[1].Seconds())
		if wrong := (told[0] - mean(after)).Abs(); wrong > mean(before)/4 {
			t.Errorf("the forecast is %v off", wrong)
		}
	}
}
