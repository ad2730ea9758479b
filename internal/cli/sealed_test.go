//go:build linux

package cli_test

import (
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"strings"
	"testing"
	"unsafe"

	"golang.org/x/sys/unix"

	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
)

// TestAHomeWithoutItsKey has a home that its file system encrypts, and takes a
// change in it back while its key is away. The machine package has a twin that
// needs no such kernel.
func TestAHomeWithoutItsKey(t *testing.T) {
	ring.Needs(t, ring.Middle)
	if os.Geteuid() != 0 && os.Getenv("CI") == "" {
		t.Skip("mounting takes root")
	}
	demo, disk, dir := demoMachine(t), t.TempDir()+"/disk", t.TempDir()
	must(t, os.WriteFile(disk, nil, 0o600))
	must(t, os.Truncate(disk, 100<<20))
	run := func(name string, words ...string) {
		t.Helper()
		if out, err := exec.Command(name, words...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
	}
	run("mkfs.ext4", "-q", "-O", "encrypt", disk)
	run("mount", "-o", "loop", disk, dir)
	t.Cleanup(func() { _ = unix.Unmount(dir, unix.MNT_DETACH) })
	key := sealable{t: t, dir: dir}
	home := dir + "/home/maria"
	must(t, os.MkdirAll(home, 0o755))
	if err := key.add(); errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTTY) {
		t.Skip("this kernel encrypts no folders")
	} else if err != nil {
		t.Fatal(err)
	}
	must(t, key.seal(home))
	run("cp", "-a", demo+"/.", dir)

	on := "--root " + dir + " "
	before := testtree.Snapshot(t, home, withoutCasebook)
	says(t, on+"disable lanternfile.desktop@maria star-index.service --yes", 0, "Done, as change 1")
	key.remove()
	const away = "/home/maria is encrypted, and its key is not there"
	says(t, on+"list", 0, "MIND: /home/maria is encrypted and its key is not there")
	says(t, on+"undo 1 --yes", 1, "change 1 is taken back but for", away)
	says(t, on+"show star-index.service", 0, "It is on")
	if text := says(t, on+"undo --all --yes", 1, away); strings.Contains(text, "put back already") {
		t.Errorf("what is away is taken for done:\n%s", text)
	}
	must(t, key.add())
	says(t, on+"undo --all --yes", 0)
	if now := testtree.Snapshot(t, home, withoutCasebook); now != before {
		t.Errorf("taken back it is not as it was:\n%s", testtree.Diff(before, now))
	}
}

// A sealable file system has a key for folders that it encrypts.
type sealable struct {
	t    *testing.T
	dir  string
	name []byte // of the key
}

// ask makes a call of fscrypt on a folder.
func (s *sealable) ask(dir string, request uintptr, arg []byte) error {
	s.t.Helper()
	f, err := os.Open(dir)
	must(s.t, err)
	defer f.Close()
	if _, _, no := unix.Syscall(unix.SYS_IOCTL, f.Fd(), request,
		uintptr(unsafe.Pointer(&arg[0]))); no != 0 {
		return no
	}
	return nil
}

const byIdentifier = 2

// add has the kernel know the key.
func (s *sealable) add() error {
	const raw = 64
	arg := make([]byte, 80, 80+raw)
	binary.NativeEndian.PutUint32(arg, byIdentifier)
	binary.NativeEndian.PutUint32(arg[40:], raw)
	for i := range byte(raw) {
		arg = append(arg, i)
	}
	err := s.ask(s.dir, unix.FS_IOC_ADD_ENCRYPTION_KEY, arg)
	s.name = arg[8:24]
	return err
}

// seal encrypts an empty folder.
func (s *sealable) seal(dir string) error {
	const version, aes256xts, aes256cts = 2, 1, 4
	arg := append([]byte{version, aes256xts, aes256cts, 0, 0, 0, 0, 0}, s.name...)
	return s.ask(dir, unix.FS_IOC_SET_ENCRYPTION_POLICY, arg)
}

// remove has the kernel forget the key.
func (s *sealable) remove() {
	s.t.Helper()
	arg := make([]byte, 64)
	binary.NativeEndian.PutUint32(arg, byIdentifier)
	copy(arg[8:], s.name)
	must(s.t, s.ask(s.dir, unix.FS_IOC_REMOVE_ENCRYPTION_KEY, arg))
}
