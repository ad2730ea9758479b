package registry

import (
	"encoding/binary"
	"fmt"
	"strings"
)

// OwnerOf is the owner of a file inside the machine, as a number of Windows
// (S-1-5-…); empty where the file system does not tell. The driver hands over
// the descriptor of the file ([MS-DTYP], "SECURITY_DESCRIPTOR").
func (d *Disk) OwnerOf(p string) string {
	raw, err := d.Root.Xattr(p, "system.ntfs_acl")
	if err != nil || len(raw) < 20 {
		return ""
	}
	at := int64(binary.LittleEndian.Uint32(raw[4:]))
	if at < 20 || at+8 > int64(len(raw)) {
		return ""
	}
	sid := raw[at:]
	parts, authority := int(sid[1]), uint64(0)
	for _, b := range sid[2:8] {
		authority = authority<<8 | uint64(b)
	}
	if 8+4*parts > len(sid) {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "S-%d-%d", sid[0], authority)
	for i := range parts {
		fmt.Fprintf(&b, "-%d", binary.LittleEndian.Uint32(sid[8+4*i:]))
	}
	return b.String()
}
