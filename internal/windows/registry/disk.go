package registry

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
)

// A Disk finds files of a Windows disk by names in any case, as Windows does.
// It may be used by several goroutines.
type Disk struct {
	Root *machine.Root

	mu      sync.Mutex
	folders map[string]folder
}

// A folder is one that was listed: its names by what they are in upper case.
type folder struct {
	names map[string]string
	err   error
}

// NewDisk is for an open machine.
func NewDisk(r *machine.Root) *Disk { return &Disk{Root: r, folders: map[string]folder{}} }

// Find returns the path inside the machine of what stands at a path without a
// letter, whose parts are divided by either slash. What is not there is
// [fs.ErrNotExist].
func (d *Disk) Find(p string) (string, error) {
	found, _, err := d.find(p)
	return found, err
}

// Called is the same as names on the disk spell it, junctions in it not
// followed.
func (d *Disk) Called(p string) (string, error) {
	_, called, err := d.find(p)
	return called, err
}

func (d *Disk) find(p string) (found, called string, err error) {
	var parts []string
	for part := range strings.FieldsFuncSeq(p, func(r rune) bool { return r == '\\' || r == '/' }) {
		bare := strings.TrimRight(part, ". ")
		switch {
		case part == "..": // Windows resolves it before it looks
			parts = parts[:max(0, len(parts)-1)]
		case bare != "":
			parts = append(parts, bare)
		}
	}
	found, called = "/", "/"
	for _, part := range parts {
		next, err := d.in(found, part)
		if err != nil {
			return "", "", err
		}
		found, called = d.through(next), path.Join(called, path.Base(next))
	}
	return found, called, nil
}

// through follows a junction: the driver shows one as a link that begins with
// where this computer has the disk mounted.
func (d *Disk) through(p string) string {
	info, err := d.Root.Lstat(p)
	if err != nil || info.Kind != machine.Symlink {
		return p
	}
	target, err := d.Root.ReadLink(p)
	if err != nil {
		return p
	}
	mounted, err := filepath.Abs(d.Root.Dir())
	if err != nil {
		return p
	}
	if rest, ok := strings.CutPrefix(target, strings.TrimSuffix(mounted, "/")+"/"); ok {
		return path.Join("/", rest)
	}
	return p
}

// in finds a name in a folder.
func (d *Disk) in(dir, name string) (string, error) {
	exact := path.Join(dir, name)
	if _, err := d.Root.Lstat(exact); err == nil {
		return exact, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	f, ok := d.folders[dir]
	if !ok {
		entries, err := d.Root.ReadDir(dir)
		if info, wrong := d.Root.Stat(dir); wrong == nil && info.Kind != machine.Folder {
			err = nil // nothing is in a file
		}
		f = folder{names: map[string]string{}, err: err}
		for _, e := range entries {
			if upper := hive.Upper(e.Name); f.names[upper] == "" {
				f.names[upper] = e.Name
			}
		}
		d.folders[dir] = f
	}
	if f.err != nil {
		return "", f.err
	}
	upper := hive.Upper(name)
	if own, ok := f.names[upper]; ok {
		return path.Join(dir, own), nil
	}
	if own := f.short(upper, dir == "/"); own != "" {
		return path.Join(dir, own), nil
	}
	return "", &fs.PathError{Op: "find", Path: exact, Err: fs.ErrNotExist}
}

// short finds what a short name such as PROGRA~1 stands for, where only one
// name of the folder can be meant. Short names are not read from the disk. The
// top of one has its folders of programs in the order in which set-up makes
// them, which is that of their names.
func (f folder) short(name string, top bool) string {
	stem, ext, _ := strings.Cut(name, ".")
	begin, number, ok := strings.Cut(stem, "~")
	if !ok || begin == "" || number == "" || strings.Trim(number, "0123456789") != "" {
		return ""
	}
	bare := func(name string) string {
		return strings.Map(func(r rune) rune {
			if strings.ContainsRune(" .", r) {
				return -1
			}
			return r
		}, name)
	}
	var found []string
	for upper, own := range f.names {
		i := strings.LastIndex(upper, ".")
		if i < 0 {
			i = len(upper)
		}
		end := strings.TrimPrefix(upper[i:], ".")
		if strings.HasPrefix(bare(upper[:i]), begin) && end[:min(3, len(end))] == ext &&
			len(bare(upper[:i])) > len(begin) {
			found = append(found, own)
		}
	}
	slices.Sort(found)
	n := int(number[0] - '1')
	switch {
	case len(found) == 1:
		return found[0]
	case top && len(number) == 1 && n >= 0 && n < len(found):
		return found[n]
	}
	return "" // which of them, only the disk could tell
}

// reparse is the attribute that shows what the file system keeps of a file
// whose content stands elsewhere, or in another form, ntfs-3g(8).
const reparse = "system.ntfs_reparse_data"

// forms say why the driver does not read such a file, by the tag of what is
// kept, [MS-FSCC] 2.1.2.1.
var forms = map[uint32]string{
	0x80000017: "it is compressed in the newer way, which the driver of this disk reads only " +
		"with its plugin for that",
	0x80000013: "its content is shared with other files, which the driver of this disk does not " +
		"read",
}

// clouds are the tags of what is kept in a cloud; their fourth digit counts.
const clouds = 0x9000001A

// Hindered says as a clause why what stands at a path inside the machine cannot
// be read; empty where nothing of the disk's says so.
func (d *Disk) Hindered(p string) string {
	var tag uint32
	if raw, err := d.Root.OwnXattr(p, reparse); err == nil && len(raw) >= 4 {
		tag = binary.LittleEndian.Uint32(raw)
	} else if text, err := d.Root.ReadLink(p); err == nil {
		// the driver shows what it does not know as a link that leads nowhere
		_, _ = fmt.Sscanf(text, "unsupported reparse tag 0x%x", &tag)
	}
	switch {
	case forms[tag] != "":
		return forms[tag]
	case tag&0xFFFF0FFF == clouds:
		return "its content is kept in a cloud, and is not on this disk"
	case tag != 0 && tag != junction && tag != symlink:
		return fmt.Sprintf("it is kept in a form (%#x) that the driver of this disk does not know",
			tag)
	}
	return ""
}

// Tags of what leads to another place of the disk.
const (
	junction = 0xA0000003
	symlink  = 0xA000000C
)

// IsFile reports whether a regular file is at a path as [Disk.Find] takes it,
// and where. An error tells that it cannot be known.
func (d *Disk) IsFile(p string) (string, bool, error) {
	found, err := d.Find(p)
	if errors.Is(err, fs.ErrNotExist) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	info, err := d.Root.Stat(found)
	if err != nil { // a link out: what it leads to is not on this disk
		if why := d.Hindered(found); why != "" {
			err = &machine.Refusal{Path: found, Reason: why}
		}
		return found, false, err
	}
	return found, info.Kind == machine.Regular, nil
}
