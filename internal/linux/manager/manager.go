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
func Reload() error {
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	bus, err := dbus.ConnectSystemBus(dbus.WithContext(ctx))
	if err != nil {
		return fmt.Errorf("its bus cannot be reached: %w", err)
	}
	defer bus.Close()
	call := bus.Object(name, object).CallWithContext(ctx, name+".Manager.Reload", 0)
	return call.Err
}
