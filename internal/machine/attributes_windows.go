package machine

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/windows"
)

const nonBlocking = 0 // what can be opened here stops nobody

func infoFrom(info fs.FileInfo) Info { return plainInfo(info) }

// setTime would give a link in an open folder its own modification time; links
// of other systems' disks are none here.
func setTime(uintptr, string, int64) error { return errors.ErrUnsupported }

// Extended attributes as other systems have them are not reached here.
func fileXattrs(*os.File) (map[string][]byte, error) { return nil, nil }

func setFileXattr(*os.File, string, []byte) error { return errors.ErrUnsupported }

// takesNothing reports whether the volume of an open file is read-only.
func takesNothing(fd uintptr) bool {
	var flags uint32
	volume := windows.Handle(fd)
	err := windows.GetVolumeInformationByHandle(volume, nil, 0, nil, nil, &flags, nil, 0)
	return err == nil && flags&windows.FILE_READ_ONLY_VOLUME != 0
}

// room is how many bytes of the volume of an open folder are free for users,
// and how many it has.
func room(fd uintptr) (free, total uint64, err error) {
	buf := make([]uint16, windows.MAX_LONG_PATH)
	n, err := windows.GetFinalPathNameByHandle(windows.Handle(fd), &buf[0], uint32(len(buf)), 0)
	if err != nil || int(n) > len(buf) {
		return 0, 0, errors.ErrUnsupported
	}
	err = windows.GetDiskFreeSpaceEx(&buf[0], &free, &total, nil)
	return free, total, err
}

// syncFolder does nothing: here the names in a folder cannot be synced.
func syncFolder(*os.File) error { return nil }
