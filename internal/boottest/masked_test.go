//go:build linux

package boottest_test

import (
	"strings"
	"testing"

	"calmdawn/internal/boottest"
)

// TestASocketOfAMaskedService asks the service manager what becomes of a socket
// whose service is masked: it refuses to listen, and so starts nothing.
func TestASocketOfAMaskedService(t *testing.T) {
	t.Parallel()
	m := boottest.New(t, map[string]string{
		"usr/lib/systemd/system/asked.service": unitOf("simple", "exec sleep 1000"),
		"usr/lib/systemd/system/asked.socket":  "[Socket]\nListenStream=/run/asked\n",
		"usr/lib/systemd/system/heard.service": unitOf("simple", "exec sleep 1000"),
		"usr/lib/systemd/system/heard.socket":  "[Socket]\nListenStream=/run/heard\n",
		"etc/systemd/system/asked.service":     "-> /dev/null",
		"etc/systemd/system/sockets.target.wants/asked.socket": "-> " +
			"/usr/lib/systemd/system/asked.socket",
		"etc/systemd/system/sockets.target.wants/heard.socket": "-> " +
			"/usr/lib/systemd/system/heard.socket",
		"usr/bin/finish": "for s in asked heard; do " +
			"echo $s $(systemctl is-active $s.socket) >> /share/sockets; done\n" +
			"systemctl --no-block poweroff\n",
		"etc/systemd/system/last.service": "[Unit]\nAfter=multi-user.target\n[Service]\n" +
			"ExecStart=/bin/sh /usr/bin/finish\n",
		"etc/systemd/system/multi-user.target.wants/last.service": "-> ../last.service",
	})
	m.Boot(t)
	got := strings.TrimSpace(m.Shared(t, "sockets"))
	if strings.Contains(got, "asked active") || !strings.Contains(got, "heard active") {
		t.Errorf("%q", got)
	}
}
