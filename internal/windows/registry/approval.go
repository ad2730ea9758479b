package registry

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
)

// Approved is where Windows notes which entries of a list are switched off.
const Approved = CurrentVersion + `\Explorer\StartupApproved`

// Approves reports whether the version honours approvals: from 6.2, Windows 8,
// on.
func (reg *Registry) Approves() bool {
	version, _ := reg.Text(reg.Machine(`SOFTWARE\`+CurrentNT), "CurrentVersion")
	major, minor := 0, 0
	if _, err := fmt.Sscanf(version, "%d.%d", &major, &minor); err != nil {
		return true
	}
	return major > 6 || major == 6 && minor >= 2
}

// SwitchedOff says, as a clause, who switched an entry off and when, by the
// notes at a place; empty where nobody did. u is whose list it is; nil for the
// machine's.
func (reg *Registry) SwitchedOff(notes Place, entry string, u *User) string {
	v, ok := reg.Value(notes, entry)
	if !ok {
		return ""
	}
	data, err := v.Data()
	if err != nil || len(data) == 0 || data[0]&1 == 0 {
		return ""
	}
	who := "it was switched off for everybody"
	if u != nil {
		who = u.Name + " switched it off"
	}
	if len(data) != 12 {
		return who + " (the note of that has an unusual form)"
	}
	if since := hive.Time(binary.LittleEndian.Uint64(data[4:])); !since.IsZero() {
		return who + " on " + since.Local().Format("2 Jan 2006, 15:04")
	}
	return who
}

// ErrNoDelay refuses to delay what is launched at a login.
var ErrNoDelay = errors.New("what Windows launches at a login cannot be delayed")

// approvalSize is how long a note usually is: a number of flags, and when the
// entry was switched off.
const approvalSize = 12

// Approve plans the note, at an address, that an entry is on or off, as Windows
// writes it. Its lowest bit decides, and the other bits of the first number
// stay. Of a note of an unusual length only that bit changes.
func Approve(d *machine.Draft, address string, on bool) error {
	now, err := d.Node(address, "")
	if err != nil {
		return err
	}
	data := slices.Clone(now.Data)
	if now.Kind != change.Value || len(data) == 0 {
		data = make([]byte, approvalSize)
		data[0] = 2
	}
	off := data[0]&1 != 0
	switch {
	case off == !on:
		return nil
	case on:
		data[0] &^= 1
	default:
		data[0] |= 1
	}
	if len(data) == approvalSize {
		since := uint64(0)
		if !on {
			since = hive.Filetime(d.At())
		}
		binary.LittleEndian.PutUint64(data[4:], since)
	}
	kind := hive.Binary
	if now.Kind == change.Value {
		kind = hive.Type(now.Type)
	}
	return d.Set(address, uint32(kind), data)
}
