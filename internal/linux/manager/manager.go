// Package manager speaks to the running system's service manager over its bus (org.freedesktop.systemd1(5)).
package manager

import (
	"context"
	"fmt"
	"time"

	"github.com/godbus/dbus/v5"
)

const (
	name   = "org.freedesktop.systemd1"
	object = dbus.ObjectPath("/org/freedesktop/systemd1")
	wait   = 20 * time.Second
)

// Reload has the service manager read the unit files anew.
func Reload() error { return call("Reload") }

// Stop has the service manager stop a unit, with what requires it.
func Stop(unit string) error { return call("StopUnit", unit, "replace") }

func call(method string, args ...any) error {
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	bus, err := dbus.ConnectSystemBus(dbus.WithContext(ctx))
	if err != nil {
		return fmt.Errorf("the service manager's bus cannot be reached: %w", err)
	}
	defer bus.Close()
	return bus.Object(name, object).CallWithContext(ctx, name+".Manager."+method, 0, args...).Err
}
