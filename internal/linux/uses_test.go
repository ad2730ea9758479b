//go:build linux

package linux

import (
	"testing"
	"time"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
)

// TestUses asks machines what is in use: one on which nothing is set up, and
// one on which something of each is.
func TestUses(t *testing.T) {
	const feed = "[Unit]\nDescription=Feed\nAfter=network-online.target\n" +
		"[Service]\nExecStart=/bin/sh\n"
	for name, c := range map[string]struct {
		files map[string]string
		want  map[string]string // why; empty for not in use
	}{
		"bare": {
			map[string]string{
				"etc/samba/smb.conf": "[global]\n[homes]\n[print$]\n",
				"etc/exports":        "# none\n",
			},
			map[string]string{"bluetooth": "", "printers": "", "shares": "", "exports": "",
				"containers": "", "fingerprints": "", "network first": ""},
		},
		"in use": {
			map[string]string{
				"var/lib/bluetooth/AA:BB:CC:DD:EE:FF/11:22:33:44:55:66/info":  "x",
				"var/lib/bluetooth/AA:BB:CC:DD:EE:FF/cache/11:22:33:44:55:77": "x",
				"etc/cups/printers.conf": "<Printer desk>\n</Printer>\n",
				"etc/samba/smb.conf":     "[global]\n[scans]\n [plans] \n",
				"etc/exports":            "/srv *(ro)\n",
				"var/lib/docker/containers/0123456789abcdef/config":        "x",
				"var/lib/fprint/maria/x":                                   "x",
				"etc/NetworkManager/system-connections/stick.nmconnection": "[connection]\n[gsm]\n",
				"etc/systemd/system/feed.service":                          feed,
				"etc/systemd/system/default.target":                        "[Unit]\n",
				"etc/systemd/system/default.target.wants/feed.service":     "-> ../feed.service",
				"bin/sh": "",
				"usr/lib/systemd/system/network-online.target":                      "[Unit]\n",
				"etc/NetworkManager/system-connections/desk.nmconnection.unrelated": "[wifi]\n",
			},
			map[string]string{
				"bluetooth":     "11:22:33:44:55:66 is paired with it",
				"printers":      "desk is set up as a printer",
				"shares":        "scans and plans are shared",
				"exports":       "/srv is exported",
				"containers":    "0123456789ab is a container of this machine",
				"fingerprints":  "maria has a fingerprint on record",
				"modem":         "stick is a connection through a modem",
				"network first": "for Feed",
			},
		},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := machine.Open(testtree.Make(t, c.files))
			if err != nil {
				t.Fatal(err)
			}
			defer r.Close()
			got := Survey(r, family.Options{Now: time.Now()}).Uses()
			for what, why := range c.want {
				if use, told := got[what]; !told || use != (advice.Use{Any: why != "", Why: why}) {
					t.Errorf("%s: %+v, told %v; want %q", what, use, told, why)
				}
			}
			if len(got) != len(c.want) {
				t.Errorf("%+v; want %d", got, len(c.want))
			}
		})
	}
}
