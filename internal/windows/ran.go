package windows

import (
	"encoding/binary"
	"fmt"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/boots"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/prefetch"
	"calmdawn/internal/windows/registry"
)

// moderators are where the system notes when programs ran last, by user and
// path: the second in older systems.
var moderators = []string{
	`SYSTEM\CurrentControlSet\Services\bam\State\UserSettings`,
	`SYSTEM\CurrentControlSet\Services\bam\UserSettings`,
}

// A ranBy is a program, in small letters, and who ran it: a SID, or anybody.
type ranBy struct{ user, program string }

// runs are when each was last, as far as the machine noted it.
type runs map[ranBy]time.Time

func (last runs) note(r ranBy, at time.Time) {
	if at.After(last[r]) {
		last[r] = at
	}
}

// tellRuns tells items when their programs ran last: those of a user, as that
// one; others, as anybody. What many services share tells nothing of one. What
// a login launched, the desktop tells by its line.
func tellRuns(reg *registry.Registry, items []item.Item) {
	last := runs{}
	last.moderated(reg)
	last.prefetched(reg, items)
	launches := boots.Launches(reg)
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
			it.RanLast = last[ranBy{sids[it.Owner], strings.ToLower(it.Program)}]
		}
		at := launches[boots.LaunchOf(sids[it.Owner], it.Command)]
		tried := it.State == item.Broken // the desktop notes that too, perhaps
		if it.Kind == item.Program && !tried && at.After(it.RanLast) {
			it.RanLast = at
		}
	}
}

// moderated adds what the registry tells of each user.
func (last runs) moderated(reg *registry.Registry) {
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
				last.note(ranBy{sid, program}, at)
				last.note(ranBy{"", program}, at)
			}
		}
	}
}

// prefetched adds what the files tell that the system keeps to launch programs
// faster. They do not tell who ran one: a program in a profile counts for its
// user, each for anybody. Only files that have an item's name are read.
func (last runs) prefetched(reg *registry.Registry, items []item.Item) {
	dir, err := reg.Find(path.Join(reg.Windows, "Prefetch"))
	if err != nil {
		return
	}
	entries, err := reg.Root.ReadDir(dir)
	if err != nil {
		reg.Notes = append(reg.Notes, machine.Unread(dir, err))
		return
	}
	names := map[string]bool{}
	for _, it := range items {
		names[prefetch.Name(path.Base(it.Program))] = true
	}
	const most = 2000
	read, damaged := 0, 0
	for _, e := range entries {
		name, ok := strings.CutSuffix(strings.ToUpper(e.Name), ".PF")
		i := strings.LastIndex(name, "-")
		if !ok || i < 0 || !names[name[:i]] || read == most {
			continue
		}
		read++
		var noted prefetch.Run
		raw, err := reg.Root.ReadFile(path.Join(dir, e.Name), prefetch.Most)
		if err == nil {
			noted, err = prefetch.Read(raw)
		}
		if err != nil {
			damaged++
			continue
		}
		program, ok := onVolume(noted.Program)
		if !ok {
			continue
		}
		last.note(ranBy{"", program}, noted.Last)
		for _, u := range reg.Users {
			if u.Profile != "" && strings.HasPrefix(program, strings.ToLower(u.Profile)+"/") {
				last.note(ranBy{strings.ToUpper(u.SID), program}, noted.Last)
			}
		}
	}
	if damaged > 0 {
		reg.Notes = append(reg.Notes, item.Unread{Path: dir, Reason: fmt.Sprintf(
			"%d of %d notes of when programs ran last cannot be read", damaged, read)})
	}
}

// onVolume is the path of a program behind the name of a volume, in small
// letters: of \Device\HarddiskVolume3\Apps\a.exe or \VOLUME{…}\Apps\a.exe. It
// is false for another name.
func onVolume(name string) (string, bool) {
	name = strings.ToLower(name)
	rest, ok := strings.CutPrefix(name, `\device\harddiskvolume`)
	if !ok {
		rest, ok = strings.CutPrefix(name, `\volume{`)
	}
	i := strings.Index(rest, `\`)
	if !ok || i < 0 {
		return "", false
	}
	return strings.ReplaceAll(rest[i:], `\`, "/"), true
}
