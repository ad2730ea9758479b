package program

import (
	"bytes"
	"debug/pe"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"calmdawn/internal/demo/write"
)

var whole = Info{
	Maker: "Penstock Works", Description: "Pump for small dams", Product: "Penstock",
	Version: "4.2 (ÿ)", Signed: true,
}

// written is an info as it is to be written.
func written(info Info) write.ProgramInfo {
	return write.ProgramInfo{
		Maker: info.Maker, Description: info.Description, Product: info.Product,
		Version: info.Version, Signed: info.Signed,
	}
}

var texts = map[uint32]string{101: "Pump service", 7: "x", 4000: "日本"}

func TestAllThatIsBuiltIsRead(t *testing.T) {
	for _, info := range []Info{whole, {Maker: "A"}, {}} {
		data := write.Program(written(info), texts)
		if _, err := pe.NewFile(bytes.NewReader(data)); err != nil {
			t.Error(err)
		}
		p, err := Open(bytes.NewReader(data))
		if err != nil {
			t.Fatal(err)
		}
		if got := p.Info(); got != info {
			t.Errorf("%+v, want %+v", got, info)
		}
		for id, want := range texts {
			if text, ok := p.Text(id); !ok || text != want {
				t.Errorf("%d is %q", id, text)
			}
		}
		for _, id := range []uint32{0, 102, 9999} {
			if text, ok := p.Text(id); ok {
				t.Errorf("%d is %q", id, text)
			}
		}
	}
}

// TestAForeignReaderAgrees has the archive's tool for such files tell the
// resources of one of ours.
func TestAForeignReaderAgrees(t *testing.T) {
	tool, err := exec.LookPath("wrestool")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("wrestool (icoutils) is missing")
		}
		t.Skip("wrestool (icoutils) is not installed")
	}
	file := filepath.Join(t.TempDir(), "a.exe")
	if err := os.WriteFile(file, write.Program(written(whole), texts), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(tool, "-x", "--raw", "-t16", file).Output()
	if err != nil || !bytes.Equal(out, write.Version(written(whole))) {
		t.Errorf("%v: the version resource is another one: %d bytes", err, len(out))
	}
}

// TestDamageIsBounded changes bytes at random.
func TestDamageIsBounded(t *testing.T) {
	data := write.Program(written(whole), texts)
	rng := rand.New(rand.NewPCG(5, 6))
	for range 20_000 {
		bad := slices.Clone(data)
		for range 1 + rng.IntN(4) {
			bad[rng.IntN(len(bad))] = byte(rng.Uint32())
		}
		if p, err := Open(bytes.NewReader(bad[:rng.IntN(len(bad)+1)])); err == nil {
			p.Info()
			p.Text(101)
		}
	}
}

func FuzzProgram(f *testing.F) {
	f.Add(write.Program(written(whole), texts))
	f.Fuzz(func(t *testing.T, data []byte) {
		if p, err := Open(bytes.NewReader(data)); err == nil {
			p.Info()
			p.Text(101)
		}
	})
}
