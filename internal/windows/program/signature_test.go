package program

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"calmdawn/internal/demo/write"
)

// TestASignerIsNamed signs as openssl does, and puts the signature into a
// program.
func TestASignerIsNamed(t *testing.T) {
	dir := t.TempDir()
	do := func(args ...string) {
		t.Helper()
		cmd := exec.Command("openssl", args...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("openssl %q: %v %s", args, err, out)
		}
	}
	if _, err := exec.LookPath("openssl"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("openssl is missing")
		}
		t.Skip("openssl is not installed")
	}
	if err := os.WriteFile(filepath.Join(dir, "text"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	do("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "key", "-out", "cert",
		"-subj", "/O=Penstock/CN=Penstock Works")
	do("smime", "-sign", "-in", "text", "-signer", "cert", "-inkey", "key", "-outform", "DER",
		"-out", "signature", "-nodetach")
	raw, err := os.ReadFile(filepath.Join(dir, "signature"))
	if err != nil {
		t.Fatal(err)
	}
	data := write.Program(write.ProgramInfo{Maker: "A", Signed: true}, nil)
	head := make([]byte, 8)
	binary.LittleEndian.PutUint32(head, uint32(8+len(raw)))
	data = append(append(data[:len(data)-8], head...), raw...)
	p, err := Open(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	if info := p.Info(); info.Signer != "Penstock Works" || !info.Signed {
		t.Errorf("%+v", info)
	}
}
