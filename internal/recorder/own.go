package recorder

import (
	"fmt"
	"os"
	"runtime"
)

// OwnProgram is this program's file, to be copied into a machine: the one that
// runs, whatever stands at its path by now.
func OwnProgram() ([]byte, error) {
	own, err := "/proc/self/exe", error(nil) // proc_pid_exe(5)
	if runtime.GOOS != "linux" {
		own, err = os.Executable()
	}
	var program []byte
	if err == nil {
		program, err = os.ReadFile(own)
	}
	if err != nil {
		return nil, fmt.Errorf("this program's own file cannot be copied into the machine: %w", err)
	}
	return program, nil
}
