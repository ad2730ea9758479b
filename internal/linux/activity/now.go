package activity

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/family"
)

// Look watches the running machine for a while. owners maps user ids to names.
func Look(procFolder string, during time.Duration, owners map[int]string) family.Now {
	now := family.Now{
		Units:    map[boot.Key]boot.Present{},
		Programs: map[family.ProgramKey]boot.Present{},
	}
	p := FollowProcesses(procFolder, func(string) bool { return false })
	defer p.Close()
	p.Sample(0)
	before := map[int]time.Duration{}
	for _, process := range p.Alive() {
		before[process.PID] = process.CPU()
	}
	start := time.Now()
	time.Sleep(during)
	p.Sample(during)
	passed := time.Since(start)
	for _, process := range p.Alive() {
		used, seen := before[process.PID]
		if !seen {
			used = process.CPU()
		}
		share := float64(process.CPU()-used) / float64(passed)
		with := func(others boot.Present) boot.Present {
			return boot.Present{CPU: others.CPU + share, Memory: others.Memory + process.Memory}
		}
		key, uid := unitOf(process.Group)
		key.Owner = owners[uid]
		if key.Native != "" {
			now.Units[key] = with(now.Units[key])
		}
		session := userOfGroup(process.Group)
		for _, word := range programWords(p.words(process.PID)) {
			k := family.ProgramKey{Program: word, Owner: owners[session]}
			now.Programs[k] = with(now.Programs[k])
		}
	}
	return now
}

// programWords are the paths that a process may be known by: its program, and
// the script that it was given.
func programWords(words []string) []string {
	var paths []string
	for _, w := range words {
		if strings.HasPrefix(w, "/") && !slices.Contains(paths, w) {
			paths = append(paths, w)
		}
	}
	return paths
}

// unitOf reads the unit out of the path of a control group, and the user whose
// manager it is of; 0 for the machine's.
func unitOf(group string) (boot.Key, int) {
	parts, uid := strings.Split(group, "/"), 0
	if digits, ok := managerOf(group); ok {
		uid, _ = strconv.Atoi(digits)
		parts = parts[managerDepth+1:]
	}
	for _, part := range parts {
		if strings.HasSuffix(part, ".service") || strings.HasSuffix(part, ".scope") {
			return boot.Key{Native: part}, uid
		}
	}
	return boot.Key{}, uid
}

// userOfGroup is the number of the user in whose slice a control group is; 0
// for none.
func userOfGroup(group string) int {
	parts := strings.SplitN(group, "/", 4)
	if len(parts) < 4 || parts[1] != UserSlice[1:] {
		return 0
	}
	digits, _ := userOf(parts[2])
	uid, _ := strconv.Atoi(digits)
	return uid
}
