package demo

import (
	"cmp"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"calmdawn/internal/casebook"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/linux"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
)

// processors is how many the simulated machine has.
const processors = 2

// The simulated reboot stands in for hardware. It reads what a boot of the demo
// machine would launch from the machine's files as they are now, by its own
// means. It plays that through second by second, and writes a log. It knows the
// machine's programs from meridian.toml, and nothing of how Calm Dawn surveys,
// rates or compares.

// A sim is one simulated boot.
type sim struct {
	dir   string
	rng   *rand.Rand
	human *rand.Rand           // what goes with who sits at the desk
	slow  float64              // how slow this boot is as a whole
	known map[string][]float64 // what services do, by unit name
	units map[string]*simUnit
	order []*simUnit // in the order in which they were pulled in
	now   float64    // seconds since the service manager began

	used     float64 // of the processors, by all
	course   []boot.Use
	sampled  float64
	fetched  float64 // MB, by all
	diskBusy float64 // seconds

	person   string  // who logs in
	pause    float64 // how long after ready
	loginAt  float64 // not before it is ready: infinity
	programs []*simProgram
}

type simUnit struct {
	name, title, kind string
	after             []string
	pulls             []string
	early             bool // it waits for nothing by default
	missing           bool // its program is gone
	target            bool

	begun, done bool
	begin, end  float64
	work        []segment // until it counts as started
	background  []segment // from then on
	waitsFor    []*simUnit

	used   float64    // of the processors, seconds
	read   float64    // MB
	course []boot.Use // by which moment
}

// A segment is a stretch of waiting, of computing or of reading, in seconds: of
// computing and of reading alone.
type segment struct {
	computes bool
	reads    bool
	left     float64
}

// Reboot starts the demo machine in dir once, as a simulation, at the given
// instant, and returns what the recorder would have made of it. seed
// decides the noise; the same machine with the same seed boots the same way.
func Reboot(dir string, at time.Time, seed uint64) (boot.Boot, error) {
	m, err := load()
	if err != nil {
		return boot.Boot{}, err
	}
	if !Is(dir) {
		return boot.Boot{}, fmt.Errorf("%s is not the demo machine; calmdawn demo --keep DIR "+
			"makes one", dir)
	}
	s := &sim{
		dir:   dir,
		rng:   rand.New(rand.NewPCG(seed, 7)),
		human: rand.New(rand.NewPCG(seed, 11)),
		known: map[string][]float64{},
		units: map[string]*simUnit{},
	}
	s.slow = math.Exp(0.03 * s.rng.NormFloat64())
	for _, p := range m.Packages {
		for _, service := range p.Services {
			s.known[service.Name] = service.Sim
		}
	}
	goal := s.pull("default.target")
	if goal == nil {
		return boot.Boot{}, errors.New("the machine has no default.target, so nothing can be " +
			"started")
	}
	s.link()
	s.sitDown(m, seed)
	if err := s.play(m, goal); err != nil {
		return boot.Boot{}, err
	}
	return s.write(m, goal, at)
}

// Is reports whether dir holds the demo machine.
func Is(dir string) bool {
	text, err := os.ReadFile(filepath.Join(dir, "etc/machine-id"))
	return err == nil && strings.TrimSpace(string(text)) == machineID
}

// Boots returns how many boots the demo machine in dir has in its log, and when
// the last of them began.
func Boots(dir string) (n int, last time.Time, err error) {
	files, err := filepath.Glob(filepath.Join(dir, journal.Folder, machineID, "*.journal"))
	for _, f := range files {
		var micro int64
		name := strings.TrimSuffix(filepath.Base(f), ".journal")
		if _, scanErr := fmt.Sscanf(name[strings.LastIndex(name, "-")+1:], "%x",
			&micro); scanErr == nil && time.UnixMicro(micro).After(last) {
			last = time.UnixMicro(micro)
		}
	}
	return len(files), last, err
}

var simFolders = []string{
	"etc/systemd/system.control",
	"etc/systemd/system",
	"usr/lib/systemd/system",
}

// pull reads a unit and all that it pulls in; nil for one that is masked or
// nowhere.
func (s *sim) pull(name string) *simUnit {
	if u, ok := s.units[name]; ok {
		return u
	}
	text, canonical := s.read(name)
	if canonical != name && text != "" {
		u := s.pull(canonical)
		s.units[name] = u
		return u
	}
	s.units[name] = nil
	if text == "" {
		return nil
	}
	u := &simUnit{
		name:   name,
		title:  name,
		kind:   "simple",
		target: strings.HasSuffix(name, ".target"),
	}
	s.units[name] = u
	s.order = append(s.order, u)
	instance, _, _ := strings.Cut(name[strings.Index(name, "@")+1:], ".")
	text = strings.NewReplacer("%i", instance, "%I", instance).Replace(text)
	for line := range strings.Lines(text) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		switch key {
		case "Description":
			u.title = value
		case "Type":
			u.kind = value
		case "After":
			u.after = append(u.after, strings.Fields(value)...)
		case "Wants", "Requires", "BindsTo":
			u.pulls = append(u.pulls, strings.Fields(value)...)
		case "DefaultDependencies":
			u.early = value == "no"
		case "ExecStart":
			program, _, _ := strings.Cut(value, " ")
			// the prefixes of systemd.service(5)
			_, err := os.Stat(filepath.Join(s.dir, strings.TrimLeft(program, "-@:+!")))
			u.missing = value != "" && err != nil
		}
	}
	u.pulls = append(u.pulls, s.links(name)...)
	s.assign(u)
	for _, other := range u.pulls {
		s.pull(other)
	}
	return u
}

// read returns the text of a unit with its drop-ins, and the name that its own
// name may be another one for.
func (s *sim) read(name string) (text, canonical string) {
	for _, try := range []string{name, name[:strings.Index(name, "@")+1] + path.Ext(name)} {
		for _, folder := range simFolders {
			p := filepath.Join(s.dir, folder, try)
			target, err := os.Readlink(p)
			if target == "/dev/null" {
				return "", name
			}
			if err == nil && !strings.Contains(target, "@") {
				name = path.Base(target)
				return s.read(name)
			}
			if data, err := os.ReadFile(p); err == nil {
				text = string(data)
				dropins, _ := filepath.Glob(filepath.Join(s.dir, "etc/systemd/system", name+".d",
					"*.conf"))
				for _, d := range dropins {
					more, _ := os.ReadFile(d)
					text += "\n" + string(more)
				}
				return text, name
			}
		}
	}
	return "", name
}

// links lists what the folders of a unit pull in: the strongest entry of a name
// counts.
func (s *sim) links(name string) []string {
	var names, seen []string
	for _, kind := range []string{".wants", ".requires"} {
		for _, folder := range simFolders {
			entries, _ := os.ReadDir(filepath.Join(s.dir, folder, name+kind))
			for _, e := range entries {
				if slices.Contains(seen, e.Name()) {
					continue
				}
				seen = append(seen, e.Name())
				target, err := os.Readlink(filepath.Join(s.dir, folder, name+kind, e.Name()))
				if err == nil && target != "/dev/null" {
					names = append(names, e.Name())
				}
			}
		}
	}
	return names
}

// plan gives a service its work, with the noise of this boot.
func (s *sim) assign(u *simUnit) {
	if u.missing || !strings.HasSuffix(u.name, ".service") {
		return // targets, and timers and sockets, which are armed at once
	}
	does := []float64{0.3, 0.1, 0}
	if known := s.known[u.name]; len(known) == 3 {
		does = known
	}
	sum := fnv.New64a() // noise of its own, whatever else starts
	sum.Write([]byte(u.name))
	own := rand.New(rand.NewPCG(s.rng.Uint64(), sum.Sum64()))
	noisy := func(seconds float64) float64 {
		return seconds * s.slow * math.Exp(0.06*own.NormFloat64())
	}
	wait, compute, background := noisy(does[0]), noisy(does[1]), noisy(does[2])
	u.work = []segment{{left: wait / 2}, {computes: true, left: compute}, {left: wait / 2}}
	for left := background; left > 0; left -= 0.5 { // it pauses between strokes of work
		u.background = append(u.background,
			segment{computes: true, left: min(left, 0.5)}, segment{left: 0.4})
	}
	if u.kind == "simple" {
		u.background = append(u.work, u.background...)
		u.work = nil
	}
}

// link works out what each unit waits for: what it is ordered after, and what
// targets and services wait for by default.
func (s *sim) link() {
	wait := func(u *simUnit, name string) {
		other := s.units[name]
		if other != nil && other != u && !slices.Contains(u.waitsFor, other) &&
			!other.waitsOn(u, 0) {
			u.waitsFor = append(u.waitsFor, other)
		}
	}
	for _, u := range s.order {
		for _, name := range u.after {
			wait(u, name)
		}
	}
	for _, u := range s.order {
		if text, _ := s.read(u.name); strings.Contains(text, "Before=") {
			for line := range strings.Lines(text) {
				if names, ok := strings.CutPrefix(line, "Before="); ok {
					for _, name := range strings.Fields(names) {
						if other := s.units[name]; other != nil {
							wait(other, u.name)
						}
					}
				}
			}
		}
	}
	for _, u := range s.order {
		switch {
		case u.target:
			for _, name := range u.pulls {
				wait(u, name)
			}
		case !u.early:
			wait(u, "basic.target")
		}
	}
}

// waitsOn reports whether u waits for another unit, directly or not.
func (u *simUnit) waitsOn(other *simUnit, depth int) bool {
	if depth > 200 {
		return true
	}
	return slices.ContainsFunc(u.waitsFor, func(v *simUnit) bool {
		return v == other || v.waitsOn(other, depth+1)
	})
}

// play runs the boot until everything that was pulled in has started, somebody
// has logged in, and all is quiet. Waiting passes by itself, computing is
// shared among the processors, reading among those that read.
func (s *sim) play(m manifest, goal *simUnit) error {
	for step := 0; ; step++ {
		if step > 1_000_000 {
			return errors.New("the simulated boot does not end")
		}
		s.release()
		switch {
		case goal.done && math.IsInf(s.loginAt, 1):
			s.loginAt = goal.end + s.pause
			if screen := s.units["display-login.service"]; screen != nil { // it is drawn now
				screen.background = append(screen.background,
					segment{computes: true, left: 1.2 + 1.4*s.human.Float64()})
			}
		case s.programs == nil && s.now >= s.loginAt:
			s.logIn(m)
		}
		computing, reading, next := 0, 0, math.Inf(1)
		running, users := s.running()
		if len(running) == 0 && s.programs != nil &&
			!slices.ContainsFunc(s.order, func(u *simUnit) bool { return !u.done }) {
			s.calm()
			return nil
		}
		for _, w := range running {
			switch (*w)[0] {
			case segment{computes: true, left: (*w)[0].left}:
				computing++
			case segment{reads: true, left: (*w)[0].left}:
				reading++
			}
		}
		rate, share := min(1, processors/float64(max(1, computing))), 1/float64(max(1, reading))
		pace := func(w segment) float64 {
			switch {
			case w.computes:
				return rate
			case w.reads:
				return share
			}
			return 1
		}
		for _, w := range running {
			next = min(next, (*w)[0].left/pace((*w)[0]))
		}
		for _, p := range s.programs {
			if p.begin > s.now {
				next = min(next, p.begin-s.now)
			}
		}
		if s.programs == nil {
			next = min(next, s.loginAt-s.now)
		}
		if math.IsInf(next, 1) {
			return errors.New("the simulated boot stands still: units wait for each other in a " +
				"circle")
		}
		next = min(next, 0.2) // as often as the recorder would look
		s.now += next
		for i, w := range running {
			done := next * pace((*w)[0])
			switch (*w)[0].left -= done; {
			case (*w)[0].computes:
				*users[i].used += done
				s.used += done
			case (*w)[0].reads:
				*users[i].read += done * diskGives
				s.fetched += done * diskGives
				s.diskBusy += done
			}
			if (*w)[0].left < 1e-9 {
				*w = (*w)[1:]
			}
		}
		s.settle()
		if s.now-s.sampled >= 0.2 {
			s.sample()
		}
	}
}

// sample notes what was used by now.
func (s *sim) sample() {
	s.sampled = s.now
	at := time.Duration(s.now * 1e9)
	s.course = append(s.course, boot.Use{
		At:   at,
		CPU:  time.Duration(s.used * 1e9),
		Read: int64(s.fetched * 1e6),
		Disk: time.Duration(s.diskBusy * 1e9),
	})
	for _, p := range s.programs {
		now := boot.Use{At: at, CPU: time.Duration(p.used * 1e9), Read: int64(p.read * 1e6)}
		n := len(p.course)
		// of single programs the recorder looks once a second
		if p.begin <= s.now && (n == 0 || now.CPU+time.Duration(now.Read) >
			p.course[n-1].CPU+time.Duration(p.course[n-1].Read) &&
			at-p.course[n-1].At >= time.Second) {
			p.course = append(p.course, now)
		}
	}
	for _, u := range s.order {
		if n := len(u.course); u.begun && u.used > 0 &&
			(n == 0 || u.course[n-1].CPU != time.Duration(u.used*1e9)) {
			u.course = append(u.course, boot.Use{At: at, CPU: time.Duration(u.used * 1e9)})
		}
	}
}

// calm goes on for as long as the recorder does after all has gone quiet:
// hardly anything happens.
func (s *sim) calm() {
	s.sample()
	for range 40 {
		s.now++
		s.used += 0.004 * (1 + s.human.Float64())
		s.sample()
	}
}

// release begins the units that wait for nothing any more, and ends those that
// have nothing to do, until none is left.
func (s *sim) release() {
	for again := true; again; {
		again = false
		for _, u := range s.order {
			ready := !u.begun &&
				!slices.ContainsFunc(u.waitsFor, func(v *simUnit) bool { return !v.done })
			if ready {
				u.begun, u.begin = true, s.now
				again = true
			}
		}
		again = s.settle() || again
	}
}

func (s *sim) settle() (changed bool) {
	for _, u := range s.order {
		if u.begun && !u.done && len(u.work) == 0 {
			u.done, u.end = true, s.now
			changed = true
		}
	}
	return changed
}

// uses are where it is noted what some work has used.
type uses struct{ used, read *float64 }

// running lists the work that is going on, and where what it uses is noted.
func (s *sim) running() (all []*[]segment, of []uses) {
	for _, u := range s.order {
		if u.begun && len(u.work) > 0 {
			all, of = append(all, &u.work), append(of, uses{&u.used, &u.read})
		}
		if u.done && len(u.background) > 0 {
			all, of = append(all, &u.background), append(of, uses{&u.used, &u.read})
		}
	}
	for _, p := range s.programs {
		if p.begin <= s.now && len(p.work) > 0 {
			all, of = append(all, &p.work), append(of, uses{&p.used, &p.read})
		}
	}
	return all, of
}

// msgStarting is the kind of message that says that a unit begins to start.
const msgStarting = "7d4958e842da4a758f6c1cdc7b36dcc5"

// write puts the boot down as a log file of the machine.
func (s *sim) write(m manifest, goal *simUnit, at time.Time) (boot.Boot, error) {
	noise := func(seconds float64) time.Duration {
		d := time.Duration(seconds * s.slow * math.Exp(
			0.02*s.rng.NormFloat64(),
		) * float64(time.Second))
		return d.Round(time.Microsecond)
	}
	firmware, loader, kernel, initrd := noise(6.4), noise(2.1), noise(3.9), noise(2.6)
	var machine, bootID journal.ID
	if _, err := hex.Decode(machine[:], []byte(machineID)); err != nil {
		return boot.Boot{}, err
	}
	for i := range bootID {
		bootID[i] = byte(s.rng.Uint32())
	}
	file := bootID
	file[0] ^= 0xff
	w := write.NewJournal(machine, file)
	base := kernel + initrd
	add := func(moment time.Duration, fields ...string) {
		real := at.Add(moment)
		own := []string{
			"_BOOT_ID=" + bootID.String(), "_MACHINE_ID=" + machineID, "_HOSTNAME=" + m.Host,
			journal.SimulatedField + "=1", "PRIORITY=6",
		}
		w.Add(write.Entry{
			Realtime:  uint64(real.UnixMicro()),
			Monotonic: uint64(moment.Microseconds()),
			Boot:      bootID,
		}, append(own, fields...))
	}
	add(0, "_TRANSPORT=kernel", "SYSLOG_IDENTIFIER=kernel", "MESSAGE=Simulated start of the demo "+
		"machine")

	type event struct {
		moment time.Duration
		begins bool // what ends at a moment is logged before what begins at it
		fields []string
	}
	var events []event
	logged := s.units["systemd-journald.service"]
	at1 := func(seconds float64) time.Duration {
		return base + time.Duration(seconds*1e6)*time.Microsecond
	}
	say := func(moment float64, id, message string, more ...string) {
		if logged != nil && moment < logged.end {
			return // the log was not there yet
		}
		fields := []string{
			"_TRANSPORT=journal", "_PID=1", "_COMM=systemd", "SYSLOG_IDENTIFIER=systemd",
			"MESSAGE_ID=" + id, "MESSAGE=" + message,
		}
		events = append(events, event{at1(moment), id == msgStarting, append(fields, more...)})
	}
	last := 0.0
	for _, u := range s.order {
		last = max(last, u.end)
		unit := []string{"UNIT=" + u.name, "JOB_TYPE=start"}
		label := u.name + " - " + u.title
		switch {
		case u.missing:
			say(u.end, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start "+label+".",
				append(unit, "JOB_RESULT=failed")...)
			continue
		case u.target:
			say(u.end, "39f53479d3a045ac8e11786248231fbf", "Reached target "+label+".",
				append(unit, "JOB_RESULT=done")...)
			continue
		case u.kind != "simple" && strings.HasSuffix(u.name, ".service"):
			say(u.begin, msgStarting, "Starting "+label+"...", unit...)
		}
		verb := "Started "
		if u.kind == "oneshot" {
			verb = "Finished "
		}
		say(u.end, "39f53479d3a045ac8e11786248231fbf", verb+label+".",
			append(unit, "JOB_RESULT=done")...)
	}
	userspace := time.Duration(last*1e6) * time.Microsecond
	total := firmware + loader + base + userspace
	spell := func(d time.Duration) string {
		if d >= time.Minute {
			return fmt.Sprintf("%dmin %.3fs", int(d.Minutes()), (d % time.Minute).Seconds())
		}
		return fmt.Sprintf("%.3fs", d.Seconds())
	}
	say(last, "b07a249cd024414a82dd00cd181378ff",
		fmt.Sprintf("Startup finished in %s (firmware) + %s (loader) + %s (kernel) + %s (initrd) "+
			"+ %s (userspace) = %s.",
			spell(firmware), spell(loader), spell(kernel), spell(initrd), spell(userspace),
			spell(total)),
		fmt.Sprintf("KERNEL_USEC=%d", kernel.Microseconds()),
		fmt.Sprintf("INITRD_USEC=%d", initrd.Microseconds()),
		fmt.Sprintf("USERSPACE_USEC=%d", userspace.Microseconds()))
	// Some hours later it is switched off.
	say(last+7*3600, "39f53479d3a045ac8e11786248231fbf", "Reached target shutdown.target - "+
		"System Shutdown.", "UNIT=shutdown.target", "JOB_TYPE=start", "JOB_RESULT=done")
	slices.SortStableFunc(events, func(a, b event) int {
		if a.moment == b.moment && a.begins != b.begins {
			if a.begins {
				return 1
			}
			return -1
		}
		return cmp.Compare(a.moment, b.moment)
	})
	for _, e := range events {
		add(e.moment, e.fields...)
	}
	folder := filepath.Join(s.dir, journal.Folder, machineID)
	name := fmt.Sprintf("system@%s-%016x-%016x.journal", file, 1, at.UnixMicro())
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return boot.Boot{}, err
	}
	if err := os.WriteFile(filepath.Join(folder, name), w.Bytes(), 0o640); err != nil {
		return boot.Boot{}, err
	}
	record := boot.Boot{
		ID:         bootID.String(),
		Began:      at.UTC(),
		Ready:      boot.Of(at1(goal.end), boot.Bus),
		Goal:       goal.name,
		Simulated:  true,
		Sources:    []boot.Source{boot.Recorder},
		Processors: processors,
		Phases: []boot.Phase{
			{Name: "firmware", Took: firmware},
			{Name: "loader", Took: loader},
			{Name: "kernel", Took: kernel},
			{Name: "initrd", Took: initrd},
			{Name: "userspace", Took: userspace},
		},
	}
	return s.record(record, base)
}

// record stands in for the recorder: what each unit used, by which moment. base
// is what came before the service manager.
func (s *sim) record(b boot.Boot, base time.Duration) (boot.Boot, error) {
	moved := func(course []boot.Use) []boot.Use {
		course = slices.Clone(course)
		for i := range course {
			course[i].At += base
		}
		return course
	}
	moment := func(seconds float64) boot.Figure {
		return boot.Of(base+time.Duration(seconds*1e9), boot.Bus)
	}
	for _, u := range s.order {
		span := boot.Span{
			Native: u.name,
			Begin:  moment(u.begin),
			End:    moment(u.end),
			Failed: u.missing,
			Pulls:  u.pulls,
			Course: moved(u.course),
		}
		for _, other := range u.waitsFor {
			span.After = append(span.After, other.name)
		}
		if strings.HasSuffix(u.name, ".service") {
			span.Type = u.kind
			span.CPU = boot.Of(time.Duration(u.used*1e9), boot.Recorder)
		}
		b.Spans = append(b.Spans, span)
	}
	boot.SortSpans(b.Spans)
	b.Course = moved(s.course)
	b.Settled.Rule = boot.QuietRule
	if at, ok := boot.QuietRule.Since(b.Course, b.Ready.Value); ok {
		b.Settled.FromReady = boot.Of(at-b.Ready.Value, boot.Recorder)
	}
	s.loginRecord(&b, base)
	r, err := machine.Open(s.dir)
	if err != nil {
		return b, err
	}
	defer r.Close()
	r.Home = linux.Family{}.Home()
	book, err := casebook.Write(r, casebook.Inside)
	if err != nil {
		return b, err
	}
	return b, errors.Join(book.AddBoot(b), book.Close())
}
