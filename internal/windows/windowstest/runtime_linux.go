//go:build linux && amd64

package windowstest

import (
	"context"
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// A Runtime is an environment that runs Windows programs, with a machine of its
// own in a folder that is thrown away.
type Runtime struct {
	t      testing.TB
	prefix string
}

// NewRuntime makes one. Where none is installed the test is skipped, in CI it
// fails.
func NewRuntime(t testing.TB) *Runtime {
	t.Helper()
	if _, err := exec.LookPath("wine"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("wine is missing")
		}
		t.Skip("wine is needed")
	}
	w := &Runtime{t, t.TempDir()}
	t.Cleanup(func() { _, _ = w.Try(time.Minute, "wineserver", "-k", "-w") })
	w.Run("wineboot", "-i")
	w.Run("wineserver", "-w")
	library := w.Drive("windows/system32/bcryptprimitives.dll")
	if err := os.WriteFile(library, forwarding(), 0o644); err != nil {
		t.Fatal(err)
	}
	return w
}

// Drive is where a path of the drive C: is.
func (w *Runtime) Drive(p string) string { return filepath.Join(w.prefix, "drive_c", p) }

// Try calls a program of the runtime, and returns what it printed.
func (w *Runtime) Try(patience time.Duration, words ...string) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Env = append(os.Environ(), "WINEPREFIX="+w.prefix, "WINEDEBUG=-all", "DISPLAY=",
		"WINEDLLOVERRIDES=mscoree=;mshtml=")
	cmd.WaitDelay = time.Second // what it started may hold its output
	out, err := cmd.CombinedOutput()
	if errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	return string(out), err
}

// Run does the same, and fails the test where that fails.
func (w *Runtime) Run(words ...string) string {
	w.t.Helper()
	out, err := w.Try(2*time.Minute, words...)
	if err != nil {
		w.t.Fatalf("%q: %v %s", words, err, out)
	}
	return out
}

// forwarding is a library of one export that leads to another one. That is what
// programs of Go ask for randomness, and this environment lacks under that name
// ("PE Format", Microsoft Learn).
func forwarding() []byte {
	const rva, file = 0x1000, 512
	u := binary.LittleEndian.AppendUint32
	library, export := "bcryptprimitives.dll\x00", "ProcessPrng\x00"
	names := library + export + "ADVAPI32.SystemFunction036\x00"
	const strings = 52
	at := func(offset int) uint32 { return uint32(rva + offset) }
	var table []byte
	for _, v := range []uint32{
		0, 0, 0, at(strings), 1, 1, 1, at(40), at(44), at(48), // the directory
		at(strings + len(library) + len(export)), at(strings + len(library)), 0,
	} {
		table = u(table, v)
	}
	table = append(table, names...)
	head := make([]byte, 60)
	copy(head, "MZ")
	head = append(u(head, 64), "PE\x00\x00"...)
	head = append(head, 0x64, 0x86, 1, 0) // x64, one section
	for _, v := range []uint32{0, 0, 0} {
		head = u(head, v)
	}
	head = append(head, 240, 0, 0x22, 0x20)
	head = append(head, 0x0B, 0x02, 14, 0)
	for _, v := range []uint32{0, file, 0, 0, 0} {
		head = u(head, v)
	}
	head = binary.LittleEndian.AppendUint64(head, 0x180000000)
	for _, v := range []uint32{0x1000, file, 6, 0, 6, 0, 0x2000, file, 0, 3 | 0x100<<16} {
		head = u(head, v)
	}
	for _, v := range []uint64{1 << 20, 4096, 1 << 20, 4096} {
		head = binary.LittleEndian.AppendUint64(head, v)
	}
	for _, v := range []uint32{0, 16, rva, uint32(len(table))} {
		head = u(head, v)
	}
	head = append(head, make([]byte, 15*8)...)
	head = append(head, ".rdata\x00\x00"...)
	for _, v := range []uint32{uint32(len(table)), rva, file, file, 0, 0, 0, 0x40000040} {
		head = u(head, v)
	}
	return append(append(head, make([]byte, file-len(head))...),
		append(table, make([]byte, file-len(table))...)...)
}
