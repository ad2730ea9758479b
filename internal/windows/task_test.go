//go:build linux

package windows

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/task"
	"calmdawn/internal/windows/windowstest"
)

const taskTree = `Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache\`

// define is the file of a task.
func define(triggers, settings, actions string) string {
	return "\xff\xfe" + utf16le(`<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
<RegistrationInfo><Description>Says</Description></RegistrationInfo>
<Triggers>`+triggers+`</Triggers><Settings>`+settings+`</Settings>
<Actions Context="Author">`+actions+`</Actions></Task>`)
}

// event is a trigger that waits for one.
func event(source string, id int) string {
	return fmt.Sprintf("<EventTrigger><Subscription>&lt;QueryList&gt;&lt;Query Id=\"0\"&gt;"+
		"&lt;Select Path=\"System\"&gt;*[System[Provider[@Name='%s'] and EventID=%d]]"+
		"&lt;/Select&gt;&lt;/Query&gt;&lt;/QueryList&gt;</Subscription></EventTrigger>", source, id)
}

// cached are actions as the scheduler's list keeps them.
func cached(command, arguments string) []byte {
	text := func(data []byte, text string) []byte {
		raw := utf16le(text)
		return append(binary.LittleEndian.AppendUint32(data, uint32(len(raw))), raw...)
	}
	data := text([]byte{3, 0}, "Author")
	data = text(append(data, 0x66, 0x66), "")
	data = text(text(text(data, command), arguments), "")
	return append(data, 0, 0)
}

// TestTasks has a task with every trigger, and what its list and its file may
// say of each other.
func TestTasks(t *testing.T) {
	d := windowstest.New()
	d.Files["Apps/a.exe"] = ""
	const action = `<Exec><Command>"C:\Apps\a.exe"</Command><Arguments>/q</Arguments></Exec>`
	const boot, logon = `<BootTrigger/>`, `<LogonTrigger><Enabled>true</Enabled></LogonTrigger>`
	add := func(name, file string) {
		d.Files["Windows/System32/Tasks/"+strings.ReplaceAll(name, `\`, "/")] = file
		d.Software.At(taskTree+`Tree\`+name).Set(text("Id", "{"+name+"}"),
			write.Raw("SD", hive.Binary, []byte{1}))
	}
	own := `<LogonTrigger><UserId>S-1-5-21-1-2-3-1001</UserId><Delay>PT1M30S</Delay></LogonTrigger>`
	for name, file := range map[string]string{
		`Penstock\At boot`: define(boot, "", action),
		"Login":            define(logon, "", action),
		"Own":              define(own, "", action),
		"Daily": define(`<CalendarTrigger><StartBoundary>2026-01-01T07:30:00</StartBoundary>`+
			`<ScheduleByDay/></CalendarTrigger>`, "", action),
		"Disabled": define(boot, "<Enabled>false</Enabled>", action),
		"Expired": define(`<TimeTrigger><EndBoundary>2026-02-03T00:00:00</EndBoundary>`+
			`</TimeTrigger>`, "", action),
		"Trigger off": define(`<BootTrigger><Enabled>false</Enabled></BootTrigger>`, "", action),
		"No trigger":  define("", "", action),
		"Hidden":      define(boot, "<Hidden>true</Hidden>", action),
		"Class":       define(boot, "", "<ComHandler><ClassId>{C}</ClassId></ComHandler>"),
		"Class gone":  define(boot, "", "<ComHandler><ClassId>{D}</ClassId></ComHandler>"),
		"Gone":        define(boot, "", `<Exec><Command>C:\Apps\gone.exe</Command></Exec>`),
		"Damaged":     "<Task", "Many": define(strings.Repeat(boot+logon, 300), "", action),
		"Bomb": `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><Task><Actions><Exec>` +
			`<Command>&b;</Command></Exec></Actions></Task>`,
		"On login": define(event("Microsoft-Windows-Winlogon", 7001), "", action),
		"On start": define(event("EventLog", 6005), "", action),
		"On error": define(event("EventLog", 6008), "", action),
		"Session": define(`<SessionStateChangeTrigger><StateChange>SessionUnlock</StateChange>`+
			`</SessionStateChangeTrigger>`, "", action),
	} {
		add(name, file)
	}
	d.Software.At(`Classes\CLSID\{C}\InprocServer32`).Set(text("", `C:\Apps\a.exe`))
	d.Files["Windows/System32/Tasks/Unlisted"] = define(boot, "", action)
	d.Software.At(taskTree+`Tree\Fileless`).Set(text("Id", "{F}"),
		write.Raw("SD", hive.Binary, []byte{1}))
	d.Software.At(taskTree + `Logon\{F}`)
	d.Software.At(taskTree + `Tasks\{F}`).Set(write.Raw("Actions", hive.Binary,
		cached(`C:\Apps\a.exe`, "/hidden")))
	add("Several", define(boot, "", `<Exec><Command>C:\Apps\gone.exe</Command></Exec>`+action))
	add("Secret", define(boot, "", action))
	d.Software.At(taskTree + `Tree\Secret`).Values = []write.Datum{text("Id", "{S}")}
	ran := make([]byte, 36)
	last := time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC)
	binary.LittleEndian.PutUint64(ran[12:], hive.Filetime(last))
	binary.LittleEndian.PutUint32(ran[24:], 0x80070002)
	d.Software.At(taskTree + `Tasks\{Login}`).Set(write.Raw("DynamicInfo", hive.Binary, ran))
	found, _ := survey(t, d)
	byName := map[string]item.Item{}
	for _, it := range found.Items {
		byName[it.Native] = it
	}
	for name, want := range map[string]string{
		`\Penstock\At boot`: "on|boot|||at the boot",
		`\Login`:            "on|login|||when anybody logs in; last on 3 Nov 2026, ended with",
		`\Own`:              "delayed|login|isolde|it waits 1m30s|when isolde logs in, 1m30s later",
		`\Daily`:            "on|later|||daily at 07:30",
		`\Disabled`:         "off|boot||it is disabled|",
		`\Expired`:          "off|later||its time ended on 3 Feb 2026|",
		`\Trigger off`:      "off|later||all its triggers are off|",
		`\No trigger`:       "off|later||it has no trigger: it is started on demand only|",
		`\Hidden`:           "on|boot|||at the boot",
		`\Class`:            "on|boot|||at the boot",
		`\Class gone`:       "broken|boot||its program is gone: the class {D}|",
		`\Gone`:             `broken|boot||its program is gone: C:\Apps\gone.exe|`,
		`\Damaged`:          "broken|later||its definition is damaged|",
		`\Bomb`:             "broken|later||its definition is damaged|",
		`\Many`:             "on|boot|||at the boot; when anybody logs in",
		`\On login`:         "on|login|||when a login is reported",
		`\On start`:         "on|boot|||when the machine reports its start",
		`\On error`:         "on|later|||when an event is reported",
		`\Session`:          "on|later|||when the screen is unlocked",
		`\Unlisted`:         "off|boot||the scheduler's own list, by which it goes",
		`\Fileless`:         "on|login||the scheduler's list has it, and its definition is gone",
		`\Several`:          "on|boot|||at the boot",
		`\Secret`:           "on|boot|||at the boot",
	} {
		it := byName[name]
		got := fmt.Sprintf("%s|%s|%s|%s|%s", it.State, it.When, it.Owner, it.Why, it.Fires)
		if !strings.HasPrefix(got, want) {
			t.Errorf("%s is %q; want %q", name, got, want)
		}
	}
	if it := byName[`\Fileless`]; it.Program != "/Apps/a.exe" || !it.Unsure ||
		it.Command != `C:\Apps\a.exe /hidden` || fmt.Sprint(it.Traits) != "[hidden]" {
		t.Errorf("of a task without its file: %+v", it)
	}
	if it := byName[`\Several`]; it.Program != "/Apps/a.exe" || !slices.Contains(it.Conditions,
		`it launches 1 more: C:\Apps\gone.exe`) {
		t.Errorf("of a task with two actions: %+v", it)
	}
	if it := byName[`\Class`]; it.Program != "/Apps/a.exe" || it.Summary != "Says" {
		t.Errorf("%+v", it)
	}
	for _, name := range []string{`\Hidden`, `\Secret`} {
		if it := byName[name]; fmt.Sprint(it.Traits) != "[hidden]" {
			t.Errorf("%s: %v", name, it.Traits)
		}
	}
	if it := byName[`\Penstock\At boot`]; !strings.HasPrefix(it.ID, "task:Penstock/At-boot#") ||
		it.Mechanism != task.Mechanism || it.Kind != item.Task {
		t.Errorf("%+v", it)
	}
}
