package unit

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/item"
)

// A service is held back by a timer of ours. Nothing but the goal pulls it in,
// it waits for the goal without being waited for, and starts the service some
// time after.

const delayPrefix = item.OwnName + "delay-"

// delayTimer is the name of the timer that holds a service back.
func delayTimer(service string) string {
	return delayPrefix + strings.TrimSuffix(service, ".service") + ".timer"
}

// delays maps the services that timers of ours hold back to those timers.
func (t *Tree) delays(got reached) map[string]*unit {
	found := map[string]*unit{}
	for name := range got {
		if !strings.HasPrefix(name, delayPrefix) || !strings.HasSuffix(name, ".timer") {
			continue
		}
		if u := t.load(name); u.file != nil && u.hidden == "" {
			found[t.activates(u).name] = u
		}
	}
	return found
}

// turnDelayed plans the timer in the place of what pulls the service in.
func (t *Turner) turnDelayed(name string, by time.Duration) error {
	u := t.load(name)
	switch {
	case splitName(name).suffix != "service":
		return errors.New("it starts nothing while somebody waits; it can be switched off instead")
	case u.file == nil || u.hidden != "":
		return errors.New("its unit cannot be started, now or later")
	case u.file.script:
		return errors.New("old init scripts cannot be delayed, only switched off")
	}
	any := t.reachAny()
	if _, asked := any[u.name]; asked {
		if when := t.startedBy(u.name, any); when != "" {
			return errors.New("it is started " + when + ", not while somebody waits for the boot")
		}
	}
	for _, v := range t.withAlso(name) {
		if err := t.unlink(v); err != nil {
			return err
		}
	}
	t.forgetReached()
	if by, still := t.reachAny()[u.name]; still {
		return fmt.Errorf("the text of %s pulls it in, so it could only be masked, and what is "+
			"masked no timer can start", by)
	}
	goal := t.load("default.target").name
	timer := path.Join(t.admin(), delayTimer(u.name))
	now, err := t.draft.Node(timer, t.owner.Home)
	if err == nil && now.Kind != "absent" {
		err = t.remove(timer)
	}
	if err != nil {
		return err
	}
	text := fmt.Sprintf(`[Unit]
Description=Delayed start of %s, by calmdawn
DefaultDependencies=no
After=%s
Conflicts=shutdown.target
Before=shutdown.target

[Timer]
OnActiveSec=%ds
AccuracySec=1s
Unit=%s
`, u.name, goal, int(by.Seconds()), u.name)
	if err := t.draft.Create(timer, t.owner.Home, []byte(text)); err != nil {
		return err
	}
	if t.owner.Name == "" { // where labels are, one without is not read
		if err := t.draft.LabelLike(timer, "/usr/lib/systemd/system/basic.target",
			"/lib/systemd/system/basic.target"); err != nil {
			return err
		}
	}
	return t.plant(path.Join(t.admin(), goal+".wants", path.Base(timer)), "../"+path.Base(timer))
}

// undelay plans that a timer of ours goes.
func (t *Turner) undelay(name string) error {
	timer := delayTimer(t.load(name).name)
	f := t.files[timer]
	if f == nil || !t.ownFile(f.entry) {
		return nil
	}
	if err := t.unlink(timer); err != nil {
		return err
	}
	t.forgetReached()
	return t.remove(f.entry)
}

// describeDelay says of a service that it is held back, and until when.
func (t *Tree) describeDelay(timer *unit, got reached, it *item.Item) {
	it.State, it.When, it.Why = item.Delayed, item.Later, ""
	moment := "the boot is ready"
	if t.owner.Name != "" && !t.owner.Lingers { // a manager that lingers starts with the boot
		moment = "login"
	}
	it.Fires = fmt.Sprintf("%s after %s", timer.last("Timer", "OnActiveSec"), moment)
	it.Because = append(got.chain(timer.name), it.Native)
}
