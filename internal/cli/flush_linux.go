package cli

import (
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// forget drops what was typed ahead at a terminal, so that no key meant for
// something else answers a question.
func forget(in io.Reader) {
	if f, ok := in.(*os.File); ok {
		_ = unix.IoctlSetInt(int(f.Fd()), unix.TCFLSH, unix.TCIFLUSH) // of a terminal alone
	}
}
