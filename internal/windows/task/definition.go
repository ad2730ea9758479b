package task

import (
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"calmdawn/internal/core/item"
	"calmdawn/internal/windows/registry"
)

// A definition is the file of a task ([MS-TSCH], "Task Schema").
type definition struct {
	Info struct {
		Author      string
		Description string
	} `xml:"RegistrationInfo"`
	Triggers struct {
		All []trigger `xml:",any"`
	}
	Principals struct {
		All []struct {
			UserID  string `xml:"UserId"`
			GroupID string `xml:"GroupId"`
		} `xml:"Principal"`
	}
	Settings struct {
		Enabled            string
		Hidden             string
		StartWhenAvailable string
		Maintenance        *struct{} `xml:"MaintenanceSettings"`
	}
	Actions struct {
		Exec []struct {
			Command   string
			Arguments string
		}
		Handler []struct {
			ClassID string `xml:"ClassId"`
		} `xml:"ComHandler"`
	}
}

// A trigger is one of a task's.
type trigger struct {
	XMLName       xml.Name
	Enabled       string
	Delay         string
	RandomDelay   string
	StartBoundary string
	EndBoundary   string
	UserID        string `xml:"UserId"`
	StateChange   string
	Subscription  string    // of events: what is asked for, as a query
	ByDay         *struct{} `xml:"ScheduleByDay"`
	ByWeek        *struct{} `xml:"ScheduleByWeek"`
	ByMonth       *struct{} `xml:"ScheduleByMonth"`
	ByMonthDay    *struct{} `xml:"ScheduleByMonthDayOfWeek"`
}

const maxDefinition = 1 << 20 // bytes

// parse reads a definition. Its text declares an encoding that it is not in any
// more when it is read.
func parse(raw []byte) (d definition, err error) {
	dec := xml.NewDecoder(strings.NewReader(registry.Text(raw)))
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	return d, dec.Decode(&d)
}

// no reports whether a text says no; what is missing says yes.
func no(text string) bool {
	text = strings.TrimSpace(text)
	return strings.EqualFold(text, "false") || text == "0"
}

func yes(text string) bool { return text != "" && !no(text) }

// ends is when a trigger ends; false where it does not, or does not say well.
func (t trigger) ends() (time.Time, bool) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05"} {
		if at, err := time.ParseInLocation(form, strings.TrimSpace(t.EndBoundary),
			time.Local); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}

// late is by how much a trigger waits; 0 where it does not.
func (t trigger) late() time.Duration { return duration(t.Delay) }

// duration reads a time as PT1H30M15S; 0 for what is none.
func duration(text string) time.Duration {
	rest, ok := strings.CutPrefix(strings.TrimSpace(text), "P")
	if !ok {
		return 0
	}
	all := time.Duration(0)
	inTime := false
	for rest != "" {
		if rest[0] == 'T' {
			rest, inTime = rest[1:], true
			continue
		}
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		n, err := strconv.Atoi(rest[:digits])
		if err != nil || digits == len(rest) || n > 1_000_000 {
			return all
		}
		unit := map[string]time.Duration{
			"falseD": 24 * time.Hour, "trueH": time.Hour, "trueM": time.Minute,
			"trueS": time.Second,
		}[fmt.Sprint(inTime)+rest[digits:digits+1]]
		all, rest = all+time.Duration(n)*unit, rest[digits+1:]
	}
	return all
}

// reported is the moment at which an event comes that a trigger waits for, of
// those that each boot or each login reports. It is later for any other.
func (t trigger) reported() item.When {
	query := strings.ToLower(strings.Join(strings.Fields(t.Subscription), ""))
	asks := func(source string, ids ...string) bool {
		return strings.Contains(query, source) && slices.ContainsFunc(ids, func(id string) bool {
			return strings.Contains(query, "eventid="+id+")") ||
				strings.Contains(query, "eventid="+id+"]") ||
				strings.Contains(query, "eventid="+id+"or")
		})
	}
	switch {
	case asks("winlogon", "7001", "811", "812"):
		return item.AtLogin
	case asks("kernel-general", "12"), asks("eventlog", "6005", "6009"),
		asks("kernel-boot", "20", "27"):
		return item.AtBoot
	}
	return item.Later
}

// words say what a trigger waits for; whom says who is meant by a user's id.
func (t trigger) words(whom func(string) string) string {
	switch t.XMLName.Local {
	case "BootTrigger":
		return "at the boot"
	case "LogonTrigger":
		if t.UserID != "" {
			return "when " + whom(t.UserID) + " logs in"
		}
		return "when anybody logs in"
	case "CalendarTrigger":
		often := "by the calendar"
		switch {
		case t.ByDay != nil:
			often = "daily"
		case t.ByWeek != nil:
			often = "weekly"
		case t.ByMonth != nil, t.ByMonthDay != nil:
			often = "monthly"
		}
		if _, hour, ok := strings.Cut(t.StartBoundary, "T"); ok && len(hour) >= 5 {
			often += " at " + hour[:5]
		}
		return often
	case "TimeTrigger":
		day, hour, ok := strings.Cut(t.StartBoundary, "T")
		if ok && len(hour) >= 5 {
			return "on " + day + " at " + hour[:5]
		}
		return "at a time"
	case "IdleTrigger":
		return "when the machine is idle"
	case "EventTrigger":
		switch t.reported() {
		case item.AtBoot:
			return "when the machine reports its start"
		case item.AtLogin:
			return "when a login is reported"
		}
		return "when an event is reported"
	case "RegistrationTrigger":
		return "when it is registered"
	case "SessionStateChangeTrigger":
		words := map[string]string{
			"SessionLock":       "when the screen is locked",
			"SessionUnlock":     "when the screen is unlocked",
			"ConsoleConnect":    "when somebody sits down at a session",
			"ConsoleDisconnect": "when somebody leaves a session",
			"RemoteConnect":     "when somebody connects from afar",
			"RemoteDisconnect":  "when somebody far away goes",
		}[strings.TrimSpace(t.StateChange)]
		if words == "" {
			words = "when a session changes"
		}
		return words
	}
	return "by a trigger"
}
