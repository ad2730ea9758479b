package boots_test

import (
	"encoding/binary"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows"
	"calmdawn/internal/windows/boots"
	"calmdawn/internal/windows/events"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/windowstest"
)

const (
	general  = "Microsoft-Windows-Kernel-General"
	kernel   = "Microsoft-Windows-Kernel-Boot"
	power    = "Microsoft-Windows-Kernel-Power"
	times    = "Microsoft-Windows-Diagnostics-Performance"
	isolde   = "S-1-5-21-1-2-3-1001"
	systemTo = "Windows/" + boots.Logs + "/System.evtx"
	timesTo  = "Windows/" + boots.Logs +
		"/Microsoft-Windows-Diagnostics-Performance%4Operational.evtx"
)

var morning = time.Date(2026, 11, 2, 7, 31, 5, 400, time.UTC)

// A story is what a machine wrote down.
type story struct{ system, times []write.Event }

func field(name string, v write.Value) write.Field { return write.Field{Name: name, Value: v} }

func (s *story) note(at time.Time, provider string, id uint16, data ...write.Field) {
	s.system = append(s.system, write.Event{Time: at, Provider: provider, ID: id, Data: data})
}

// starts notes a start of a kind.
func (s *story) starts(at time.Time, kind uint32) {
	s.note(at.Add(time.Second), general, 12, field("MajorVersion", write.Uint32(10)),
		field("MinorVersion", write.Uint32(0)), field("BuildVersion", write.Uint32(19045)),
		field("StartTime", write.Instant(at)))
	s.note(at.Add(time.Second), kernel, 27, field("BootType", write.Hex32(kind)))
}

func (s *story) ends(at time.Time) {
	s.note(at, general, 13, field("StopTime", write.Instant(at)))
}

func (s *story) logsIn(at time.Time, sid string) {
	s.note(at, "Microsoft-Windows-Winlogon", 7001, field("UserSid", write.SID(sid)))
}

// took notes how long a boot took, in milliseconds.
func (s *story) took(at time.Time, main, wait, post uint32, more ...write.Field) {
	s.times = append(s.times, write.Event{
		Time: at.Add(3 * time.Minute), Provider: times, ID: 100, User: "S-1-5-19",
		Data: append([]write.Field{
			field("BootStartTime", write.Instant(at)),
			field("MainPathBootTime", write.Uint32(main)),
			field("UserLogonWaitDuration", write.Uint32(wait)),
			field("BootPostBootTime", write.Uint32(post)),
		}, more...),
	})
}

// read has the boots found that a machine with a story remembers, and judged.
func (s *story) read(t testing.TB, files map[string]string) family.Boots {
	t.Helper()
	d := windowstest.New()
	d.Files[systemTo] = string(write.EventLog(s.system, 1, true))
	d.Files[timesTo] = string(write.EventLog(s.times, 1, false))
	for p, text := range files {
		d.Files[p] = text
	}
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	return family.Remember(windows.Family{}.Open(r), nil, 0)
}

// TestEveryKindOfBoot reads starts of every kind, with what is odd of them.
func TestEveryKindOfBoot(t *testing.T) {
	var s story
	day := func(n int) time.Time { return morning.AddDate(0, 0, n) }
	// before the system's log begins
	s.took(day(-3), 20000, 5000, 9000)
	for n := range 3 { // in order
		s.starts(day(n), 0)
		s.logsIn(day(n).Add(25*time.Second), isolde)
		s.took(day(n), 31000, 10000, 12500, field("BootKernelInitTime", write.Uint32(900)),
			field("OSLoaderDuration", write.Uint32(1500)))
		s.ends(day(n).Add(8 * time.Hour))
	}
	s.starts(day(3), 0) // it crashes
	s.took(day(3), 31000, 10000, 12500)
	s.starts(day(4), 0)
	s.note(day(4).Add(2*time.Second), power, 41)
	s.took(day(4), 31000, 10000, 12500)
	s.ends(day(4).Add(time.Hour))
	s.note(day(5), kernel, 27, field("BootType", write.Hex32(1))) // a fast start, without more
	s.took(day(5), 9000, 0, 4000)
	s.note(day(5).Add(time.Hour), kernel, 27, field("BootType", write.Hex32(2))) // a resume
	s.ends(day(5).Add(2 * time.Hour))
	s.starts(day(6), 0) // nobody wrote down how long it took
	s.ends(day(6).Add(time.Hour))
	s.starts(day(7), 0)
	s.note(day(7).Add(20*time.Second), "Service Control Manager", 7000,
		field("param1", write.Text("Penstock pump")), field("param2", write.Text("%%2")))
	s.note(day(7).Add(time.Hour), general, 1,
		field("NewTime", write.Instant(day(7).Add(time.Hour+15*time.Second))),
		field("OldTime", write.Instant(day(7).Add(15*time.Second))))
	s.took(day(7), 33000, 10000, 12500, field("BootIsRebootAfterInstall", write.Bool(true)),
		field("BootAutoChkTime", write.Uint32(45000)))
	found := s.read(t, nil)
	if len(found.Boots) != 9 || len(found.Unread) > 0 {
		t.Fatalf("%d boots, %v", len(found.Boots), found.Unread)
	}
	for i, want := range []struct {
		ready, usable time.Duration // milliseconds
		kind, odd     string
		ending        boot.Ending
	}{
		{15000, 24000, "login of somebody", "", ""},
		{21000, 33500, "login of isolde", "", boot.Clean},
		{21000, 33500, "login of isolde", "", boot.Clean},
		{21000, 33500, "login of isolde", "", boot.Clean},
		{21000, 33500, "login of somebody", "", boot.Cut},
		{21000, 33500, "login of somebody", "the boot before it ended in a crash", boot.Clean},
		{9000, 13000, "login of somebody", "it is a fast start, and most boots are a full start",
			boot.Clean},
		{0, 0, "no login", boot.NotWritten, boot.Clean},
		{23000, 35500, "login of somebody", "a disk was checked, for 45 s; it is the first after " +
			"updates were put in; Penstock pump failed, which it mostly does not; the clock was " +
			"set by 1h0m0s", ""},
	} {
		b := found.Boots[i]
		u := b.Usable()
		odd := strings.Join(b.Odd, "; ")
		if b.Ready.Value != want.ready*time.Millisecond ||
			u.Value != want.usable*time.Millisecond || u.Kind != want.kind ||
			!strings.HasPrefix(odd, want.odd) || want.odd == "" && odd != "" ||
			b.Ending != want.ending {
			t.Errorf("boot %d: ready %v, usable %v (%s), odd %q, %s", i, b.Ready.Value, u.Value,
				u.Kind, odd, b.Ending)
		}
	}
	b := found.Boots[1]
	if b.ID != "2026-11-02T07:31:05Z" || b.Kernel != "10.0.19045" ||
		b.Phase("kernel").Value != 900*time.Millisecond ||
		b.Phase("loader").Value != 1500*time.Millisecond || b.Start != boot.FullStart {
		t.Errorf("%+v", b)
	}
	if n := len(b.Waits); n != 1 || b.Waits[0].Took != 10*time.Second {
		t.Errorf("waits: %v", b.Waits)
	}
}

// TestALaptopsMonth has a machine sleep, wake up, start fast and crash, and its
// clock set right. Boots stay comparable, and one crash makes one boot odd.
func TestALaptopsMonth(t *testing.T) {
	const troubleshooter = "Microsoft-Windows-Power-Troubleshooter"
	var s story
	day := func(n int) time.Time { return morning.AddDate(0, 0, n) }
	jump := func(at time.Time, by time.Duration, more ...write.Field) {
		s.note(at.Add(by), general, 1, append([]write.Field{
			field("NewTime", write.Instant(at.Add(by))), field("OldTime", write.Instant(at)),
		}, more...)...)
	}
	sleeps := func(at time.Time, long time.Duration, more ...write.Field) {
		s.note(at, power, 42)
		jump(at, long, more...)
		s.note(at.Add(long), power, 107)
		s.note(at.Add(long), troubleshooter, 1)
	}
	for n := range 4 {
		s.starts(day(n), 0)
		s.took(day(n), 31000, 10000, 12500)
		sleeps(day(n).Add(time.Hour), 5*time.Hour, field("Reason", write.Uint32(2)))
		sleeps(day(n).Add(8*time.Hour), 3*time.Hour) // by a system that gives no reason
		s.ends(day(n).Add(12 * time.Hour))
	}
	// Shut down and started fast: the night is a jump, of before it began.
	s.note(day(4), kernel, 27, field("BootType", write.Hex32(1)))
	jump(day(3).Add(12*time.Hour), 12*time.Hour+time.Second)
	s.took(day(4), 9000, 0, 4000)
	s.ends(day(4).Add(time.Hour))
	// It runs, and crashes. The next start's 6008 stands before its 12.
	s.starts(day(5), 0)
	s.took(day(5), 31000, 10000, 12500)
	s.note(day(6).Add(3*time.Second), "EventLog", 6008)
	s.starts(day(6), 0)
	s.note(day(6).Add(2*time.Second), power, 41)
	s.took(day(6), 31000, 10000, 12500)
	s.ends(day(6).Add(time.Hour))
	// Its clock is set right, once amid the boot, once long after.
	s.starts(day(7), 0)
	jump(day(7).Add(10*time.Second), 4*time.Hour)
	s.took(day(7), 31000, 10000, 12500)
	s.ends(day(7).Add(6 * time.Hour))
	s.starts(day(8), 0)
	jump(day(8).Add(time.Hour), 4*time.Hour)
	s.took(day(8), 31000, 10000, 12500)
	found := s.read(t, nil)
	for i, want := range []string{
		"", "", "", "", "it is a fast start, and most boots are a full start", "",
		"the boot before it ended in a crash, or the power went", "the clock was set by 4h0m0s",
		"",
	} {
		if odd := strings.Join(found.Boots[i].Odd, "; "); odd != want {
			t.Errorf("boot %d: odd %q, want %q", i, odd, want)
		}
	}
	for i, want := range map[int]boot.Ending{4: boot.Clean, 5: boot.Cut, 6: boot.Clean} {
		if got := found.Boots[i].Ending; got != want {
			t.Errorf("boot %d ended %q, want %q", i, got, want)
		}
	}
}

// TestAServersLogins has a machine without a record of how long boots took. Its
// other logs tell of its logins, and of the services that started.
func TestAServersLogins(t *testing.T) {
	const (
		sessions = "Microsoft-Windows-TerminalServices-LocalSessionManager"
		profiles = "Microsoft-Windows-User Profile Service"
		policies = "Microsoft-Windows-GroupPolicy"
		winlogon = "Microsoft-Windows-Winlogon"
		desktop  = "Microsoft-Windows-Shell-Core"
		line     = `"C:\Program Files\Marl\sync.exe" /quiet`
	)
	var s story
	logs := map[string][]write.Event{}
	tell := func(provider string, e write.Event) {
		e.Provider = provider
		logs[provider] = append(logs[provider], e)
	}
	ms := func(n int) time.Duration { return time.Duration(n) * time.Millisecond }
	shell := func(at time.Time, who string) {
		tell(sessions, write.Event{Time: at, ID: 22, UserData: "EventXML", Data: []write.Field{
			field("User", write.Text(who)), field("SessionID", write.Uint32(2)),
		}})
	}
	for day, took := range []int{2400, 3100, 2600} {
		began := morning.AddDate(0, 0, day)
		s.starts(began, 0)
		s.note(began.Add(time.Second), kernel, 20, field("LastShutdownGood", write.Bool(false)))
		s.note(began.Add(time.Second), kernel, 32, field("Waited", write.Uint32(7000)))
		s.note(began.Add(4*time.Second), "EventLog", 6005)
		s.note(began.Add(6*time.Second), "Service Control Manager", 7036,
			field("param1", write.Text("Pumpe")), field("param2", write.Text("läuft")),
			field("Binary", write.Binary(write.Text("Pump/4\x00").Data)))
		s.note(began.Add(9*time.Second), "Service Control Manager", 7036,
			field("Binary", write.Binary(write.Text("Pump/1\x00").Data)))
		tell(policies, write.Event{Time: began.Add(20 * time.Second), ID: 8000,
			Data: []write.Field{field("PolicyElaspedTimeInSeconds", write.Uint32(12))}})
		login := began.Add(time.Minute)
		s.logsIn(login, isolde)
		in := func(n int) time.Time { return login.Add(ms(n)) }
		tell(profiles, write.Event{Time: in(100), ID: 1, User: isolde})
		tell(profiles, write.Event{Time: in(900), ID: 2, User: isolde})
		for _, id := range []uint16{811, 812} {
			tell(winlogon, write.Event{Time: in(200 + int(id-811)*300), ID: id,
				Data: []write.Field{field("SubscriberName", write.Text("Pumps"))}})
		}
		tell(policies, write.Event{Time: in(2000), ID: 8001, User: isolde,
			Data: []write.Field{field("PolicyElaspedTimeInSeconds", write.Uint32(1))}})
		shell(in(50), `ORCHARD\branko`) // of another session
		shell(in(took), `ORCHARD\isolde`)
		shell(in(took+9000), `ORCHARD\isolde`)
		for n, id := range []uint16{9707, 9708} {
			tell(desktop, write.Event{Time: in(4000 + 200*n), ID: id, User: isolde,
				Data: []write.Field{field("Command", write.Text(line))}})
		}
		tell(desktop, write.Event{Time: in(11 * 60_000), ID: 9707, User: isolde,
			Data: []write.Field{field("Command", write.Text("later"))}})
	}
	files := map[string]string{}
	for provider, all := range logs {
		files["Windows/"+boots.Logs+"/"+provider+"%4Operational.evtx"] = string(
			write.EventLog(all, 1, false))
	}
	d := windowstest.New()
	d.Service("Pump")
	d.Files[systemTo] = string(write.EventLog(s.system, 1, true))
	maps.Copy(d.Files, files)
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	found := family.Remember(windows.Family{}.Open(r), nil, 0).Boots
	if len(found) != 3 || len(found[1].Logins) != 1 {
		t.Fatalf("%+v", found)
	}
	b := found[1]
	want := boot.Login{
		User: "isolde", Began: time.Minute, Desktop: boot.Of(ms(3100), boot.Log),
		Parts: []boot.Phase{
			{Name: "profile", Took: ms(800), Beside: true},
			{Name: "policies", Took: time.Second, Beside: true},
			{Name: "telling Pumps", Took: ms(300), Beside: true},
		},
		Launched: []boot.Run{{Line: line, Began: ms(4000), Done: boot.Of(ms(4200), boot.Log)}},
	}
	got := b.Logins[0]
	// the begin of the boot has a fraction of a second that instants round
	got.Began = got.Began.Round(time.Millisecond)
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%+v\n%+v", got, want)
	}
	if b.Ready.Known || b.Usable().Known {
		t.Error("what nobody measured is known")
	}
	if p := b.Phase("machine policies"); p.Value != 12*time.Second || !b.Phases[0].Beside {
		t.Errorf("phases %v", b.Phases)
	}
	if notes := strings.Join(b.Notes, "; "); notes != "its loader was told that the shutdown "+
		"before it failed; before it, the boot menu waited 7 s for a person" {
		t.Errorf("notes %q", notes)
	}
	pump, _ := b.Span("Pump")
	log, _ := b.Span("EventLog")
	if pump.End.Value.Round(time.Second) != 6*time.Second ||
		log.End.Value.Round(time.Second) != 4*time.Second || pump.Failed {
		t.Errorf("services: %+v %+v", pump, log)
	}
}

// TestTheRecordDecides has the sum of a record's own parts say whether the
// person's wait is in the time until the desktop.
func TestTheRecordDecides(t *testing.T) {
	parts := func(more ...write.Field) []write.Field {
		return append([]write.Field{
			field("BootKernelInitTime", write.Uint32(1000)),
			field("BootDriverInitTime", write.Uint32(2000)),
			field("BootSmssInitTime", write.Uint32(3000)),
			field("WinLogonStartTimeMS", write.Uint32(4000)),
			field("BootUserProfileProcessingTime", write.Uint32(500)),
			field("OtherLogonInitActivityDuration", write.Uint32(1500)),
			field("BootExplorerInitTime", write.Uint32(8000)),
		}, more...)
	}
	for name, c := range map[string]struct {
		main, wait uint32
		parts      []write.Field
		ready      time.Duration // milliseconds
		beside     string
		note       string
	}{
		"it is in":      {30000, 10000, parts(), 20000, "", "so that was taken out"},
		"it is not":     {20000, 10000, parts(), 20000, "", "so no wait for a person"},
		"with a part":   {20000, 10000, nil, 10000, "", "the record does not tell"},
		"longer":        {20000, 25000, parts(), 20000, "", "longer than"},
		"nobody waited": {20000, 0, nil, 20000, "", ""},
		"prefetch after": {28000, 5000, parts(field("BootPrefetchInitTime", write.Uint32(8000))),
			28000, "", "so no wait for a person"},
		"rounded": {20000, 0, parts(field("BootCriticalServicesInitTime", write.Uint32(5502))),
			20000, "", ""},
		"half of it beside": {20000, 0,
			parts(field("BootCriticalServicesInitTime", write.Uint32(11000))),
			20000, "services", ""},
		"prefetch beside": {20000, 5000, parts(field("BootPrefetchInitTime", write.Uint32(9000))),
			20000, "prefetch", "so no wait for a person"},
	} {
		t.Run(name, func(t *testing.T) {
			var s story
			s.starts(morning, 0)
			s.took(morning, c.main, c.wait, 12500, c.parts...)
			b := s.read(t, nil).Boots[0]
			beside, parts := "", time.Duration(0)
			for _, p := range b.Phases {
				if p.Beside {
					beside += p.Name
				}
			}
			for _, p := range boot.Explain(b) {
				parts += p.Took
			}
			if b.Ready.Value != c.ready*time.Millisecond || beside != c.beside ||
				parts != b.Ready.Value ||
				!strings.Contains(strings.Join(b.Notes, " "), c.note) ||
				c.note == "" && len(b.Notes) > 0 {
				t.Errorf("ready %v, beside %q, parts %v, %q", b.Ready.Value, beside, parts, b.Notes)
			}
		})
	}
}

// TestFailuresNameTheirService goes by the key in the event's binary data, and
// by the title alone where that is missing or names no service.
func TestFailuresNameTheirService(t *testing.T) {
	wide := func(text string) write.Value { return write.Binary(write.Text(text).Data) }
	var s story
	s.starts(morning, 0)
	for _, data := range [][]write.Field{
		{field("param1", write.Text("Some title")), field("Binary", wide("Pump/4\x00"))},
		{field("param1", write.Text("Pump of the dam")), field("Binary", wide("Nobody"))},
		{field("param1", write.Text("Valve of the dam")), field("Binary", wide("Nobody"))},
		{field("param1", write.Text("No such")), field("Binary", write.Binary([]byte{1}))},
	} {
		s.note(morning.Add(20*time.Second), "Service Control Manager", 7000, data...)
	}
	d := windowstest.New()
	d.Service("PUMP", write.Counted("Type", 16), write.Counted("Start", 2),
		write.Texted("DisplayName", hive.String, "Pump of the dam"))
	d.Service("VALVE", write.Texted("DisplayName", hive.String, "Valve of the dam"))
	d.Files[systemTo] = string(write.EventLog(s.system, 1, false))
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	var names []string
	for _, span := range family.Remember(windows.Family{}.Open(r), nil, 0).Boots[0].Spans {
		names = append(names, span.Native)
	}
	if got := strings.Join(names, ", "); got != "PUMP, VALVE, No such" {
		t.Error(got)
	}
}

// TestRandomBoots writes boots with random figures, some as texts, and reads
// them back whole.
func TestRandomBoots(t *testing.T) {
	rng := rand.New(rand.NewPCG(28, 1))
	var s story
	type figures struct{ main, wait, post uint32 }
	var want []figures
	at := morning
	for range 300 {
		at = at.Add(time.Hour + time.Duration(rng.IntN(1e6))*time.Millisecond*100)
		f := figures{5000 + rng.Uint32N(90000), rng.Uint32N(5000), rng.Uint32N(200000)}
		want = append(want, f)
		s.starts(at, 0)
		s.took(at, f.main, f.wait, f.post)
		if rng.IntN(2) == 0 { // as some systems write it
			data := s.times[len(s.times)-1].Data
			for i, d := range data {
				read := events.Value{Type: d.Value.Type, Data: d.Value.Data}
				data[i].Value = write.Text(read.Text())
			}
		}
		s.ends(at.Add(30 * time.Minute))
	}
	found := s.read(t, nil)
	if len(found.Boots) != len(want) {
		t.Fatalf("%d of %d boots", len(found.Boots), len(want))
	}
	for i, f := range want {
		b := found.Boots[i]
		ready := time.Duration(f.main-f.wait) * time.Millisecond
		post := time.Duration(f.post) * time.Millisecond
		if b.Ready.Value != ready || b.Settled.FromReady.Value != post ||
			b.Worked.Value != ready+post || len(b.Odd) > 0 {
			t.Fatalf("boot %d of %+v: %v %v %q", i, f, b.Ready.Value, b.Worked.Value, b.Odd)
		}
	}
}

// TestDamagedLogs loses what is damaged, says so, and keeps the rest.
func TestDamagedLogs(t *testing.T) {
	var s story
	for n := range 500 {
		at := morning.Add(time.Duration(n) * 12 * time.Hour)
		s.starts(at, 0)
		s.took(at, 30000, 0, 10000)
		s.ends(at.Add(time.Hour))
	}
	log := write.EventLog(s.system, 1, false)
	const head, chunk = 4096, 65536
	clear(log[head+chunk+512 : head+chunk+9000])
	found := s.read(t, map[string]string{systemTo: string(log)})
	if n := len(found.Boots); n != 500 { // the other log tells of those that are lost
		t.Errorf("%d boots", n)
	}
	if len(found.Unread) != 1 || !strings.Contains(found.Unread[0].Reason, "damaged") {
		t.Errorf("unread: %v", found.Unread)
	}
	found = s.read(t, map[string]string{systemTo: "no log"})
	if len(found.Boots) != 500 || len(found.Unread) != 1 {
		t.Errorf("%d boots, %v", len(found.Boots), found.Unread)
	}
}

// TestALogThatTellsTooMuch keeps the newest of what it tells.
func TestALogThatTellsTooMuch(t *testing.T) {
	var s story
	for n := range 30_000 {
		s.starts(morning.Add(time.Duration(n)*5*time.Minute), 0)
	}
	found := s.read(t, nil)
	last := morning.Add(29_999 * 5 * time.Minute)
	if n := len(found.Boots); n < 5_000 || n > 20_000 || len(found.Unread) != 1 ||
		!found.Boots[n-1].Began.Equal(last.Truncate(100)) {
		t.Errorf("%d boots, the last of %v, %v", n, found.Boots[n-1].Began, found.Unread)
	}
}

// traced is a trace of a login, in the form of the system.
func traced(processes string) string {
	raw := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(`<?xml version="1.0" encoding="UTF-16"?>` +
		"<StartupData>" + processes + "</StartupData>")) {
		raw = binary.LittleEndian.AppendUint16(raw, u)
	}
	return string(raw)
}

// TestTracesOfLogins gives boots what their logins launched, whatever stands
// there.
func TestTracesOfLogins(t *testing.T) {
	var s story
	for n := range 2 {
		at := morning.AddDate(0, 0, n)
		s.starts(at, 0)
		s.logsIn(at.Add(40*time.Second), isolde)
		s.took(at, 60000, 20000, 12000)
		s.ends(at.Add(time.Hour))
	}
	s.times = append(s.times, write.Event{Provider: times, ID: 103, Data: []write.Field{
		field("StartTime", write.Instant(morning)), field("Name", write.Text("Penstock")),
		field("TotalTime", write.Uint32(5100)), field("DegradationTime", write.Uint32(3000)),
	}})
	process := func(name string, pid, parent int, start, line string) string {
		return fmt.Sprintf(`<Process Name="%s" PID="%d" StartedInTraceSec="1"><StartTime>%s`+
			`</StartTime><CommandLine><![CDATA[%s]]></CommandLine><DiskUsage Units="bytes">5000`+
			`</DiskUsage><CpuUsage Units="us">1500000</CpuUsage><ParentPID>%d</ParentPID>`+
			`</Process>`, name, pid, start, line, parent)
	}
	const to = "Windows/" + boots.Traces + "/" + isolde + "_StartupInfo"
	found := s.read(t, map[string]string{
		"Program Files/Marl/sync.exe": "",
		to + "1.xml": traced(process("SYNC.EXE", 40, 2, "2026/11/02:07:31:50.5000000",
			`"C:\Program Files\Marl\sync.exe" -tray`) +
			process("HELPER.EXE", 44, 40, "2026/11/02:07:31:51.0000000", `helper.exe`) +
			process("BAD", 48, 2, "yesterday", "x")),
		to + "2.xml": "<StartupData><Process",
		to + "9.xml": traced(process("OLD.EXE", 4, 2, "2020/01/02:07:31:50.5000000", "x")),
		"Windows/" + boots.Traces + "/S-1-5-21-9_StartupInfo1.xml": traced(""),
	})
	b := found.Boots[0]
	if len(b.Programs) != 2 || len(found.Boots[1].Programs) != 0 {
		t.Fatalf("%+v", b.Programs)
	}
	use := b.ProgramUse("/Program Files/Marl/sync.exe", "isolde")
	if !use.Ran || use.CPU != 3*time.Second || use.Read != 10000 ||
		use.Began != 25500*time.Millisecond-400 {
		t.Errorf("%+v", use)
	}
	if len(b.Slow) != 1 || b.Slow[0].By != 3*time.Second || b.Slow[0].Kind != "service" {
		t.Errorf("slow: %+v", b.Slow)
	}
	if len(found.Unread) != 1 {
		t.Errorf("unread: %v", found.Unread)
	}
}

// TestAMachineThatTimesNothing says why, as far as the disk tells, and knows
// what the firmware took before the last boot.
func TestAMachineThatTimesNothing(t *testing.T) {
	const channel = `Microsoft\Windows\CurrentVersion\WINEVT\Channels\` +
		`Microsoft-Windows-Diagnostics-Performance/Operational`
	for name, c := range map[string]struct {
		set  func(d *windowstest.Disk)
		took bool
		want string
	}{
		"a server": {func(*windowstest.Disk) {}, false, "as servers do"},
		"no policy service": {func(d *windowstest.Disk) {
			d.Service("DPS", write.Counted("Start", 4), write.Counted("Type", 32))
		}, false, "(DPS) is off"},
		"no log": {func(d *windowstest.Disk) {
			d.Software.At(channel).Set(write.Counted("Enabled", 0))
		}, false, "that log is switched off"},
		"it does": {func(*windowstest.Disk) {}, true, ""},
	} {
		t.Run(name, func(t *testing.T) {
			var s story
			s.starts(morning, 0)
			s.starts(morning.AddDate(0, 0, 1), 0)
			if c.took {
				s.took(morning, 31000, 10000, 12500)
			}
			d := windowstest.New()
			c.set(d)
			d.System.At(`ControlSet001\Control\Session Manager\Power`).Set(
				write.Counted("FwPOSTTime", 7300))
			d.Files[systemTo] = string(write.EventLog(s.system, 1, false))
			d.Files[timesTo] = string(write.EventLog(s.times, 1, false))
			r, err := machine.Open(d.Make(t))
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			found := family.Remember(windows.Family{}.Open(r), nil, 0)
			said := strings.Join(found.Remarks, " ")
			if !strings.Contains(said, c.want) || (said == "") != (c.want == "") {
				t.Errorf("%q", said)
			}
			first, last := found.Boots[0].Phase("firmware"), found.Boots[1].Phase("firmware")
			if first.Known || last.Value != 7300*time.Millisecond {
				t.Errorf("firmware: %v %v", first, last)
			}
		})
	}
}

// TestTheDiskTellsTheZoneOfTraces has traces in UTC and in the machine's own
// zone, two hours ahead: the logins on record decide, and when files were
// written.
func TestTheDiskTellsTheZoneOfTraces(t *testing.T) {
	const login = 40 * time.Second
	trace := func(at time.Time) string {
		return traced(fmt.Sprintf(`<Process Name="A.EXE" PID="4"><StartTime>%s</StartTime>`+
			`<CpuUsage>1</CpuUsage></Process>`, at.Format("2006/01/02:15:04:05.0000000")))
	}
	for name, c := range map[string]struct {
		at      time.Duration // after the boot, as the trace has it
		logs    bool          // the login is on record
		written time.Duration // after the boot
		began   time.Duration
		unread  bool
	}{
		"in UTC":           {login + 5*time.Second, true, 0, 45 * time.Second, false},
		"in the zone":      {2*time.Hour + 45*time.Second, true, 0, 45 * time.Second, false},
		"by the file, UTC": {45 * time.Second, false, 2 * time.Minute, 45 * time.Second, false},
		"by the file": {2*time.Hour + 45*time.Second, false, 2 * time.Minute, 45 * time.Second,
			false},
		"by neither": {45 * time.Second, false, 900 * time.Hour, 45 * time.Second, true},
	} {
		t.Run(name, func(t *testing.T) {
			var s story
			s.starts(morning, 0)
			if c.logs {
				s.logsIn(morning.Add(login), isolde)
			}
			d := windowstest.New()
			d.System.At(`ControlSet001\Control\TimeZoneInformation`).Set(
				write.Counted("ActiveTimeBias", 0xFFFFFF88)) // -120 minutes
			const p = "Windows/" + boots.Traces + "/" + isolde + "_StartupInfo1.xml"
			d.Files[systemTo] = string(write.EventLog(s.system, 1, false))
			d.Files[p] = trace(morning.Add(c.at))
			dir := d.Make(t)
			written := morning.Add(c.written)
			if err := os.Chtimes(filepath.Join(dir, p), written, written); err != nil {
				t.Fatal(err)
			}
			r, err := machine.Open(dir)
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			found := family.Remember(windows.Family{}.Open(r), nil, 0)
			if programs := found.Boots[0].Programs; len(programs) != 1 ||
				programs[0].Began.Round(time.Second) != c.began ||
				(len(found.Unread) > 0) != c.unread {
				t.Errorf("%+v, %v", programs, found.Unread)
			}
		})
	}
}

// TestInstalls reads what was put in and taken away.
func TestInstalls(t *testing.T) {
	d := windowstest.New()
	list := func(texts ...string) write.Field {
		v := write.Text(strings.Join(texts, "\x00") + "\x00")
		v.Type |= 0x80
		return write.Field{Value: v}
	}
	d.Files[systemTo] = string(write.EventLog([]write.Event{{
		Time: morning, Provider: "Microsoft-Windows-WindowsUpdateClient", ID: 19,
		Data: []write.Field{field("updateTitle", write.Text("Monthly repair"))},
	}}, 1, false))
	d.Files["Windows/"+boots.Logs+"/Application.evtx"] = string(write.EventLog([]write.Event{
		{Time: morning, Provider: "MsiInstaller", ID: 1033, Data: []write.Field{
			list("Penstock", "2.1", "1033", "0"),
		}},
		{Time: morning, Provider: "MsiInstaller", ID: 1034, Data: []write.Field{
			list("Marl", "1.0"),
		}},
	}, 1, false))
	r, err := machine.Open(d.Make(t))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	var told []string
	for _, e := range family.Events(windows.Family{}.Open(r), nil) {
		told = append(told, e.What+" "+e.Package+" "+e.Version)
	}
	want := "upgraded Monthly repair , installed Penstock 2.1, removed Marl 1.0"
	if got := strings.Join(told, ", "); got != want {
		t.Errorf("%s", got)
	}
}

// BenchmarkFindBoots finds the boots in a log of 50,000 events and some hundred
// MB. It tells how much faster that is than a foreign reader converts it.
func BenchmarkFindBoots(b *testing.B) {
	var s story
	filler := strings.Repeat("what another program has to say ", 30)
	for n := range 50_000 {
		at := morning.Add(time.Duration(n) * time.Minute)
		if n%500 == 0 {
			s.starts(at, 0)
			s.took(at, 30000, 0, 10000)
			continue
		}
		s.note(at, "Other", uint16(n%900), field("param1", write.Text(filler)))
	}
	d := windowstest.New()
	d.Files[systemTo] = string(write.EventLog(s.system, 1, false))
	root := d.Make(b)
	r, err := machine.Open(root)
	if err != nil {
		b.Fatal(err)
	}
	defer r.Close()
	info, err := os.Stat(filepath.Join(root, systemTo))
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(info.Size())
	for b.Loop() {
		if n := len(windows.Family{}.Open(r).Boots(0).Boots); n != 100 {
			b.Fatalf("%d boots", n)
		}
	}
	ours := b.Elapsed() / time.Duration(b.N)
	began := time.Now()
	out, err := exec.Command("evtxexport", filepath.Join(root, systemTo)).CombinedOutput()
	if n := strings.Count(string(out), "Event number"); err != nil || n < 49_000 {
		b.Logf("no foreign reader: %v, %d events, %.300s", err, n, out)
		return
	}
	b.ReportMetric(float64(time.Since(began))/float64(ours), "times-faster")
}
