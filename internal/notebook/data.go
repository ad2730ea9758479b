package notebook

import (
	"os"
	"path/filepath"
	"runtime"
)

// DataFolder is where what the technician gathers is kept: below XDG_DATA_HOME,
// or .local/share (XDG Base Directory Specification).
func DataFolder() (string, error) {
	if dir := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "calmdawn"), nil
	}
	if runtime.GOOS == "windows" {
		dir, err := os.UserConfigDir() // %AppData%
		return filepath.Join(dir, "calmdawn"), err
	}
	home, err := os.UserHomeDir()
	return filepath.Join(home, ".local", "share", "calmdawn"), err
}
