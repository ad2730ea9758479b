package windowstest

import (
	"os"
	"os/exec"
	"testing"
)

// Mount makes an NTFS volume of some megabytes and mounts it at a folder, until
// the test ends. It returns its image.
// Where that cannot be, the test is skipped, in CI it fails.
func Mount(t testing.TB, dir string, megabytes int64) (image string) {
	t.Helper()
	if _, err := exec.LookPath("mkntfs"); err != nil || os.Geteuid() != 0 {
		if os.Getenv("CI") != "" {
			t.Fatal("mkntfs (ntfs-3g) is missing, or nobody is root")
		}
		t.Skip("mkntfs (ntfs-3g) and root are needed")
	}
	image = t.TempDir() + "/image"
	if err := os.WriteFile(image, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(image, megabytes<<20); err != nil {
		t.Fatal(err)
	}
	for _, words := range [][]string{
		{"mkntfs", "-F", "-q", "-Q", image}, {"ntfs-3g", image, dir},
	} {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%q: %v %s", words, err, out)
		}
	}
	t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
	return image
}
