//go:build linux

// Rescue is the first and only program of a virtual machine. It tries the
// program beside it on a file system that this computer's kernel may not know.
// It mounts the disk /dev/vda, makes the calls of the file /calls there, and
// switches the machine off. It says whether the machine is as it was when a
// call is "same". Only tests use it.
package main

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

func main() {
	fmt.Println("RESCUE BEGINS")
	if err := run(); err != nil {
		fmt.Println("RESCUE FAILED:", err)
	}
	fmt.Println("RESCUE ENDS")
	unix.Sync()
	_ = unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
}

func run() error {
	for _, m := range [][2]string{
		{"proc", "/proc"},
		{"sysfs", "/sys"},
		{"devtmpfs", "/dev"},
		{"tmpfs", "/run"},
		{"tmpfs", "/tmp"},
	} {
		if err := os.MkdirAll(m[1], 0o755); err != nil {
			return err
		}
		if err := unix.Mount(m[0], m[1], m[0], 0, ""); err != nil {
			return fmt.Errorf("mounting %s: %w", m[1], err)
		}
	}
	modules, err := os.ReadFile("/modules/order")
	if err != nil {
		return err
	}
	for name := range strings.FieldsSeq(string(modules)) {
		f, err := os.Open("/modules/" + name)
		if err != nil {
			return err
		}
		if err := unix.FinitModule(int(f.Fd()), "", 0); err != nil && err != unix.EEXIST {
			return fmt.Errorf("module %s: %w", name, err)
		}
		f.Close()
	}
	kind, err := os.ReadFile("/kind")
	if err != nil {
		return err
	}
	if err := os.MkdirAll("/mnt", 0o755); err != nil {
		return err
	}
	if err := unix.Mount("/dev/vda", "/mnt", strings.TrimSpace(string(kind)), 0, ""); err != nil {
		return fmt.Errorf("mounting the disk: %w", err)
	}
	calls, err := os.ReadFile("/calls")
	if err != nil {
		return err
	}
	first := ""
	for line := range strings.Lines(string(calls)) {
		words := strings.Fields(line)
		if words[0] == "same" {
			now := snapshot("/mnt/machine")
			if first == "" {
				first = now
			}
			fmt.Println("SAME:", first == now)
			tell(first, now)
			continue
		}
		out, err := exec.Command("/calmdawn", words...).CombinedOutput()
		fmt.Printf("$ %s%s[%v]\n", line, out, err)
	}
	return unix.Unmount("/mnt", 0)
}

// snapshot lists a tree, a line a path, without what the casebook changes.
func snapshot(dir string) string {
	var b strings.Builder
	_ = filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			fmt.Fprintln(&b, p, err)
			return nil
		}
		if p == dir+"/var/lib" {
			return fs.SkipDir
		}
		info, err := os.Lstat(p)
		if err != nil {
			fmt.Fprintln(&b, p, err)
			return nil
		}
		st := info.Sys().(*syscall.Stat_t)
		content := ""
		switch {
		case info.Mode().IsRegular():
			data, _ := os.ReadFile(p)
			content = fmt.Sprintf("%x", sha256.Sum256(data))
		case info.Mode()&fs.ModeSymlink != 0:
			content, _ = os.Readlink(p)
		}
		fmt.Fprintln(&b, p, info.Mode(), st.Uid, st.Gid, info.ModTime().UnixNano(), content)
		return nil
	})
	return b.String()
}

func tell(before, after string) {
	for line := range strings.Lines(before) {
		if !strings.Contains(after, line) {
			fmt.Print("- ", line)
		}
	}
	for line := range strings.Lines(after) {
		if !strings.Contains(before, line) {
			fmt.Print("+ ", line)
		}
	}
}
