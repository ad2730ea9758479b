//go:build linux

package boottest_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestHFSPlus changes the demo machine, and takes all back, on HFS+ as Linux
// writes it. That has whole seconds, and an attribute on every new file that
// cannot be removed. A virtual machine does that whose kernel knows HFS+.
func TestHFSPlus(t *testing.T) {
	maker := os.Getenv("CALMDAWN_MKHFS")
	if os.Getenv("CALMDAWN_VM") == "" || maker == "" {
		t.Skip("make bench-vm runs it, where CALMDAWN_MKHFS makes an empty volume")
	}
	work := t.TempDir()
	image := filepath.Join(work, "disk.img")
	must(t, "python3", maker, image)
	kernel, modules := plainKernel(t)
	root := filepath.Join(work, "root")
	ok(t, os.MkdirAll(root+"/modules", 0o755))
	order := ""
	for _, name := range []string{
		"virtio_ring", "virtio", "virtio_pci_legacy_dev", "virtio_pci_modern_dev", "virtio_pci",
		"virtio_blk", "nls_utf8", "cdrom", "hfsplus",
	} {
		found := must(t, "find", modules, "-name", name+".ko")
		if found = strings.TrimSpace(found); found == "" {
			continue // built in
		}
		must(t, "cp", found, root+"/modules/"+name+".ko")
		order += name + ".ko\n"
	}
	must(t, "cp", program(t), root+"/calmdawn")
	build := exec.Command("go", "build", "-trimpath", "-ldflags=-s", "-o", root+"/init",
		"calmdawn/internal/boottest/rescue")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	const on = "--root /mnt/machine "
	calls := strings.Join([]string{
		"demo --keep /mnt/machine",
		"same",
		on + "disable --yes service:star-index.service program:lanternfile.desktop@maria " +
			"task:/etc/cron.d/mast#619c service:dome-lamp.service",
		on + "delay --yes service:cue-update.service",
		on + "undo 1 --yes",
		on + "disable --yes task:/etc/cron.d/mast#619c",
		on + "undo 2 --yes",
		on + "undo --all --yes",
		"same",
		on + "history",
	}, "\n") + "\n"
	for name, text := range map[string]string{
		"modules/order": order,
		"kind":          "hfsplus\n",
		"calls":         calls,
	} {
		ok(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	initrd := filepath.Join(work, "initrd")
	must(t, "sh", "-c", "cd "+root+" && find . | cpio -o -H newc --quiet > "+initrd)
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, "qemu-system-x86_64", "-m", "768", "-smp", "2",
		"-nographic", "-no-reboot", "-net", "none",
		"-kernel", kernel, "-initrd", initrd, "-append", "console=ttyS0 quiet rdinit=/init",
		"-drive", "file="+image+",format=raw,if=virtio").CombinedOutput()
	text := strings.ReplaceAll(string(out), "\r", "")
	if err != nil || strings.Count(text, "SAME: true") != 2 || strings.Contains(text, "FAILED") ||
		strings.Contains(text, "exit status") || !strings.Contains(text, "0 in force") {
		t.Errorf("%v\n%s", err, text)
	}
}

// plainKernel fetches Debian's kernel for all hardware, which has modules that
// the one for virtual machines has not, and returns it and its modules.
func plainKernel(t testing.TB) (kernel, modules string) {
	cache, err := os.UserCacheDir()
	ok(t, err)
	dir := filepath.Join(cache, "calmdawn", "kernel-1")
	if _, err := os.Stat(dir); err != nil {
		must(t, "mkdir", "-p", dir+".new")
		must(t, "sh", "-c", "cd "+dir+".new && apt-get download -qq $(apt-cache depends "+
			"linux-image-amd64 | awk '/Depends:/ {print $2; exit}') && dpkg-deb -x *.deb . && rm "+
			"*.deb")
		ok(t, os.Rename(dir+".new", dir))
	}
	found, _ := filepath.Glob(dir + "/boot/vmlinuz-*")
	if len(found) != 1 {
		t.Fatalf("kernels: %v", found)
	}
	return found[0], dir + "/lib/modules"
}
