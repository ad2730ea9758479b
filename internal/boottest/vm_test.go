//go:build linux

package boottest_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/testtree"
)

// vmPackages are what a machine needs that boots by its own kernel.
const vmPackages = "systemd,systemd-sysv,dbus,udev,procps,kmod,libpam-systemd,linux-image-cloud-amd64,initramfs-tools"

// TestVirtualMachine puts the recorder onto the disk of a whole virtual machine, boots it twice under software emulation, and reads what it left.
// `make bench-vm` runs it; it takes some minutes.
func TestVirtualMachine(t *testing.T) {
	if os.Getenv("CALMDAWN_VM") == "" {
		t.Skip("a whole virtual machine takes minutes; make bench-vm boots one")
	}
	p := program(t)
	cache, err := os.UserCacheDir()
	ok(t, err)
	root := filepath.Join(cache, "calmdawn", "bookworm-vm-1")
	must := func(name string, words ...string) string {
		t.Helper()
		out, err := exec.Command(name, words...).CombinedOutput()
		if err != nil {
			t.Fatalf("%s %v: %v\n%s", name, words, err, out)
		}
		return string(out)
	}
	if _, err := os.Stat(root); err != nil {
		must("mmdebstrap", "--variant=minbase", "--include="+vmPackages, "bookworm", root+".new")
		ok(t, os.Rename(root+".new", root))
	}
	work := t.TempDir()
	dir := filepath.Join(work, "root")
	must("cp", "-a", root, dir)
	testtree.Add(t, dir, map[string]string{
		"etc/fstab": "/dev/vda / ext4 defaults 0 1\n", "etc/hostname": "bench\n", "var/log/journal/": "",
		"etc/systemd/system/waits.service":                         unitOf("oneshot", "sleep 2"),
		"etc/systemd/system/multi-user.target.wants/waits.service": "-> ../waits.service",
		"usr/bin/finish":                                         "sleep 40\nwhile [ \"$(systemctl is-active calmdawn-recorder.service)\" = active ]; do sleep 20; done\nsystemctl --no-block poweroff\n",
		"etc/systemd/system/last.service":                        "[Unit]\nAfter=multi-user.target\n[Service]\nExecStart=/bin/sh /usr/bin/finish\n",
		"etc/systemd/system/graphical.target.wants/last.service": "-> ../last.service",
	})
	out, err := exec.Command(p, "--root", dir, "recorder", "on", "--yes").CombinedOutput()
	if err != nil {
		t.Fatal(string(out))
	}
	disk, loader, variables := filepath.Join(work, "disk.img"), filepath.Join(work, "loader.img"), filepath.Join(work, "variables.fd")
	must("mke2fs", "-q", "-t", "ext4", "-d", dir, disk, "2500M")
	kernels, _ := filepath.Glob(dir + "/boot/vmlinuz-*")
	initrds, _ := filepath.Glob(dir + "/boot/initrd.img-*")
	if len(kernels) != 1 || len(initrds) != 1 {
		t.Fatal("the fixture has no kernel")
	}
	// A second disk from which the firmware boots: the loader tells the service manager when it and the firmware were done.
	entry := filepath.Join(work, "bench.conf")
	ok(t, os.WriteFile(entry, []byte("title bench\nlinux /vmlinuz\ninitrd /initrd\noptions root=/dev/vda rw console=ttyS0 quiet\n"), 0o644))
	must("mkfs.vfat", "-C", loader, "131072")
	must("mmd", "-i", loader, "::/EFI", "::/EFI/BOOT", "::/loader", "::/loader/entries")
	for from, to := range map[string]string{kernels[0]: "vmlinuz", initrds[0]: "initrd", entry: "loader/entries/bench.conf", "/usr/lib/systemd/boot/efi/systemd-bootx64.efi": "EFI/BOOT/BOOTX64.EFI"} {
		must("mcopy", "-i", loader, from, "::/"+to)
	}
	must("cp", "/usr/share/OVMF/OVMF_VARS_4M.fd", variables)
	for n := range 2 {
		ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
		start := time.Now()
		cmd := exec.CommandContext(ctx, "qemu-system-x86_64", "-m", "1024", "-smp", "2", "-nographic", "-no-reboot",
			"-drive", "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd", "-drive", "if=pflash,format=raw,file="+variables,
			"-drive", "file="+disk+",format=raw,if=virtio", "-drive", "file="+loader+",format=raw,if=virtio", "-net", "none")
		console, err := cmd.CombinedOutput()
		cancel()
		if err != nil {
			t.Fatalf("boot %d: %v\n%s", n+1, err, console[max(0, len(console)-3000):])
		}
		t.Logf("boot %d: %.0f s until it had switched itself off", n+1, time.Since(start).Seconds())
	}
	left := filepath.Join(work, "left")
	for _, folder := range []string{"/var/lib/calmdawn", "/var/log/journal"} {
		ok(t, os.MkdirAll(filepath.Join(left, filepath.Dir(folder)), 0o755))
		must("debugfs", "-R", "rdump "+folder+" "+filepath.Join(left, filepath.Dir(folder)), disk)
	}
	ok(t, os.MkdirAll(left+"/etc", 0o755))
	must("debugfs", "-R", "dump /etc/machine-id "+left+"/etc/machine-id", disk)
	ok(t, exec.Command("touch", left+"/etc/passwd").Run())
	out, err = exec.Command(p, "--root", left, "boots", "--json", "--spans").Output()
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
		t.Logf("ready %.1f s, phases %v, settled +%.1f s, from %v, kernel %s, %d processors, %d MB; units used %.1f s, and read %d MB; odd: %v",
			b.Ready, b.Phases, b.Settled.FromReady, b.Sources, b.Kernel, b.Processors, b.Memory/1e6, cpu, read/1e6, b.Odd)
		if b.Phases["firmware"] <= 0 || b.Phases["loader"] <= 0 || b.Phases["kernel"] <= 0 || b.Phases["userspace"] <= 0 || len(b.Sources) != 2 || b.Kernel == "" || b.Processors != 2 || b.Memory < 5e8 || cpu < 1 || read < 1e6 {
			t.Errorf("something is missing: %+v", b)
		}
	}
	out, err = exec.Command(p, "--root", left, "recorder", "status").CombinedOutput()
	ok(t, err)
	t.Log(strings.TrimSpace(string(out)))
}
