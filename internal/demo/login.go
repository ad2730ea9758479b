package demo

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/boot"
)

// After ready somebody sits down at the desk and logs in: a simulated session
// starts what that person's desktop launches, as the files say now.

const (
	diskGives = 60.0 // MB a second
	stroke    = 0.4  // seconds of computing between two readings
	session   = "/usr/bin/lark-session"
)

// A simProgram is one program of a login.
type simProgram struct {
	words  []string // its path, and its words
	begin  float64
	work   []segment
	used   float64 // of the processors, seconds
	read   float64 // MB
	memory float64 // MB
	course []boot.Use
}

// sitDown chooses who logs in, and when: some time after ready.
func (s *sim) sitDown(m manifest, seed uint64) {
	s.person = m.Users[0].Name
	if seed%5 == 3 && len(m.Users) > 1 {
		s.person = m.Users[1].Name
	}
	s.pause = 9 + 14*s.human.Float64()
	s.loginAt = math.Inf(1)
}

// logIn starts the session of who sits at the desk.
func (s *sim) logIn(m manifest) {
	figures := map[string][]float64{} // by program: seconds of computing, MB read, MB held
	for _, p := range m.Packages {
		for _, e := range p.Entries {
			if figures[e.Run] = e.Sim; len(e.For[s.person]) > 0 {
				figures[e.Run] = e.For[s.person]
			}
		}
	}
	add := func(at float64, run string, figures []float64) {
		if len(figures) < 3 {
			figures = []float64{0.3, 4, 15}
		}
		sum := fnv.New64a()
		sum.Write([]byte(run))
		own := rand.New(rand.NewPCG(s.human.Uint64(), sum.Sum64()))
		noisy := func(x float64) float64 { return x * s.slow * math.Exp(0.05*own.NormFloat64()) }
		compute, read := noisy(figures[0]), noisy(figures[1])
		p := &simProgram{begin: at, memory: noisy(figures[2])}
		words := strings.Fields(run)
		p.words = append([]string{s.programAt(words[0])}, words...)
		strokes := max(1, math.Ceil(compute/stroke))
		for range int(strokes) {
			p.work = append(p.work, segment{reads: true, left: read / strokes / diskGives},
				segment{computes: true, left: compute / strokes})
		}
		s.programs = append(s.programs, p)
	}
	add(s.now, session, []float64{3.5, 90, 140})
	at := s.now + 1.2
	for _, e := range s.entries() {
		add(at+e.held, e.run, figures[e.run])
		at += 0.15
	}
}

// A launched entry is one that the session starts, so many seconds late.
type launched struct {
	run  string
	held float64
}

var heldBack = regexp.MustCompile(`^/bin/sh -c "sleep ([0-9]+); exec (.*)"$`)

// entries are what the person's desktop launches: those of all users, and the
// person's own, which count instead of one of the same name.
func (s *sim) entries() (all []launched) {
	texts := map[string]string{}
	for _, folder := range []string{
		"etc/xdg/autostart",
		"home/" + s.person + "/.config/autostart",
	} {
		files, _ := filepath.Glob(filepath.Join(s.dir, folder, "*.desktop"))
		for _, f := range files {
			if data, err := os.ReadFile(f); err == nil {
				texts[filepath.Base(f)] = string(data)
			}
		}
	}
	var names []string
	for name := range texts {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		e, hidden := launched{}, false
		for line := range strings.Lines(texts[name]) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
			switch {
			case key == "Hidden":
				hidden = value == "true"
			case key == "Exec" && e.run == "":
				e.run = value
			}
		}
		if m := heldBack.FindStringSubmatch(e.run); m != nil {
			seconds, _ := strconv.Atoi(m[1])
			e = launched{m[2], float64(seconds)}
		}
		program, _, _ := strings.Cut(e.run, " ")
		_, err := os.Stat(filepath.Join(s.dir, s.programAt(program)))
		if !hidden && e.run != "" && err == nil {
			all = append(all, e)
		}
	}
	return all
}

func (s *sim) programAt(word string) string {
	if strings.HasPrefix(word, "/") {
		return word
	}
	return "/usr/bin/" + word
}

// loginRecord adds to a record what the recorder would have seen of the login.
func (s *sim) loginRecord(b *boot.Boot, base time.Duration) {
	if len(s.programs) == 0 {
		return
	}
	at := func(seconds float64) time.Duration {
		return base + time.Duration(seconds*float64(time.Second))
	}
	began := at(s.loginAt)
	b.Logins = []boot.Login{{User: s.person, Began: began}}
	b.Settled.Login = boot.Of(began, boot.Bus)
	if calm, ok := boot.QuietRule.Since(b.Course, began); ok {
		b.Settled.FromLogin = boot.Of(calm-began, boot.Recorder)
	}
	left := 0.0
	for i, p := range s.programs {
		parent := 0
		if i == 0 {
			parent = -1
		}
		name := filepath.Base(p.words[0])
		for j := range p.course {
			p.course[j].At += base
		}
		seen := p.used * (1 - 0.004*float64(i%3)) // what came and went between two looks
		left += p.used - seen
		b.Programs = append(b.Programs, boot.Program{
			Name:   name[:min(15, len(name))],
			Words:  p.words,
			Owner:  s.person,
			Parent: parent,
			Began:  at(p.begin),
			CPU:    time.Duration(seen * float64(time.Second)),
			Read:   int64(p.read * 1e6),
			Memory: int64(p.memory * 1e6),
			Course: p.course,
		})
	}
	b.Rest = boot.Of(time.Duration(left*float64(time.Second)), boot.Recorder)
}
