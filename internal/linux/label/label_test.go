package label

import (
	"testing"

	"calmdawn/internal/core/boot"
)

func TestOf(t *testing.T) {
	for _, c := range []struct {
		native, owner string
		want          boot.Label
	}{
		{"graphical.target", "", boot.Goal},
		{"multi-user.target", "", boot.Goal},
		{"multi-user.target", "maria", 0},
		{"default.target", "", 0},
		{"default.target", "maria", boot.Goal},
		{"basic.target", "", boot.Basic},
		{"emergency.service", "", boot.Emergency | boot.Service},
		{"rescue.target", "", boot.Rescue},
		{"rescue.target", "maria", 0},
		{"systemd-fsck@dev-sda1.service", "", boot.DiskCheck | boot.Service},
		{"user@1000.service", "", boot.Session | boot.Service},
		{"user@1000.service", "maria", boot.Service},
		{"daily.timer", "", boot.Clock},
		{"watched.path", "maria", boot.Clock},
		{"asked.socket", "", 0},
	} {
		if got := Of(c.native, c.owner); got != c.want {
			t.Errorf("%s of %q is labelled %b; want %b", c.native, c.owner, got, c.want)
		}
	}
}
