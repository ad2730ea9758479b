package windows

import (
	"encoding/binary"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/boots"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/registry"
)

// moderators are where the system notes when programs ran last, by user and
// path: the second in older systems.
var moderators = []string{
	`SYSTEM\CurrentControlSet\Services\bam\State\UserSettings`,
	`SYSTEM\CurrentControlSet\Services\bam\UserSettings`,
}

// tellRuns tells items when their programs ran last: those of a user, as that
// one; others, as anybody. What many services share tells nothing of one. What
// a login launched, the desktop tells by its line.
func tellRuns(reg *registry.Registry, items []item.Item) {
	type run struct{ user, program string }
	last := map[run]time.Time{}
	note := func(r run, at time.Time) {
		if at.After(last[r]) {
			last[r] = at
		}
	}
	for _, place := range moderators {
		for _, user := range reg.Keys(reg.Machine(place)) {
			sid := strings.ToUpper(user.Key.Name())
			for _, v := range reg.Values(user) {
				data, err := v.Data()
				program, ok := onVolume(v.Name)
				if err != nil || !ok || len(data) < 8 {
					continue
				}
				at := hive.Time(binary.LittleEndian.Uint64(data))
				note(run{sid, program}, at)
				note(run{"", program}, at)
			}
		}
	}
	launches := boots.Launches(reg)
	if len(last)+len(launches) == 0 {
		return
	}
	sids := map[string]string{}
	for _, u := range reg.Users {
		sids[u.Name] = strings.ToUpper(u.SID)
	}
	for i := range items {
		it := &items[i]
		if it.Owner != "" && sids[it.Owner] == "" {
			continue
		}
		if it.Program != "" && !strings.HasSuffix(strings.ToLower(it.Program), "/svchost.exe") {
			it.RanLast = last[run{sids[it.Owner], strings.ToLower(it.Program)}]
		}
		at := launches[boots.LaunchOf(sids[it.Owner], it.Command)]
		if it.Kind == item.Program && at.After(it.RanLast) {
			it.RanLast = at
		}
	}
}

// onVolume is the path of a program, in small letters, that stands behind the
// name of a volume's device, as \Device\HarddiskVolume3\Apps\a.exe; false for
// another one.
func onVolume(name string) (string, bool) {
	const device = `\device\harddiskvolume`
	name = strings.ToLower(name)
	rest, ok := strings.CutPrefix(name, device)
	i := strings.Index(rest, `\`)
	if !ok || i < 0 {
		return "", false
	}
	return strings.ReplaceAll(rest[i:], `\`, "/"), true
}
