// Package manager speaks to the running system's service managers over their
// buses (org.freedesktop.systemd1(5)). It has them read their files anew, and
// asks them about the boot that is running.
package manager

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"strconv"
	"time"

	"github.com/godbus/dbus/v5"
)

const (
	name   = "org.freedesktop.systemd1"
	object = dbus.ObjectPath("/org/freedesktop/systemd1")
	wait   = 20 * time.Second
	// greet is how long whatever listens at a socket has to show that it is a
	// bus.
	greet = 2 * time.Second
)

// A Manager is a connection to one service manager: the machine's, or a user's.
type Manager struct {
	bus  *dbus.Conn
	skim *skimmer
	end  context.CancelFunc
	// Owner is the user whose manager it is; empty for the machine's.
	Owner string
}

// Connect reaches the machine's service manager. The connection answers for 20
// seconds.
func Connect() (*Manager, error) {
	m, err := connect("/run/dbus/system_bus_socket", os.Geteuid(), os.Getegid())
	if err != nil {
		return nil, fmt.Errorf("the service manager's bus cannot be reached: %w", err)
	}
	return m, nil
}

// ConnectUser reaches the service manager of a user, as that user: a user's bus
// talks to nobody else. It takes root, or being that user.
func ConnectUser(owner string, uid, gid int) (*Manager, error) {
	m, err := connect(fmt.Sprintf("/run/user/%d/bus", uid), uid, gid)
	if err != nil {
		return nil, fmt.Errorf("the bus of %s cannot be reached: %w", owner, err)
	}
	m.Owner = owner
	return m, nil
}

func connect(socket string, uid, gid int) (*Manager, error) {
	ctx, end := context.WithTimeout(context.Background(), wait)
	conn, err := dialAs(socket, uid, gid)
	if err != nil {
		end()
		return nil, err
	}
	// The library reads the greeting whatever its context says.
	_ = conn.SetDeadline(time.Now().Add(greet))
	skim := newSkimmer(conn)
	bus, err := dbus.NewConn(skim, dbus.WithContext(ctx))
	if err == nil {
		if err = bus.Auth([]dbus.Auth{dbus.AuthExternal(strconv.Itoa(uid))}); err == nil {
			_ = conn.SetDeadline(time.Now().Add(wait))
			err = bus.Hello()
		}
	}
	if err != nil {
		end()
		conn.Close()
		return nil, err
	}
	return &Manager{bus: bus, skim: skim, end: end}, nil
}

// Close ends the connection.
func (m *Manager) Close() {
	m.bus.Close()
	m.end()
}

// Reload has the machine's service manager read the unit files anew.
func Reload() error { return call("Reload") }

// Stop has the machine's service manager stop a unit, with what requires it.
func Stop(unit string) error { return call("StopUnit", unit, "replace") }

func call(method string, args ...any) error {
	slog.Debug("service manager", "asked", method, "of", args)
	m, err := Connect()
	if err != nil {
		return err
	}
	defer m.Close()
	return m.bus.Object(name, object).Call(name+".Manager."+method, 0, args...).Err
}
