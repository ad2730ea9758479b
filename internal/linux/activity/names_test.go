package activity

import "testing"

// TestWhoseAGroupIs has users make groups below their own under names of
// others.
func TestWhoseAGroupIs(t *testing.T) {
	const ofA = "/user.slice/user-1000.slice/user@1000.service"
	for group, want := range map[string]struct {
		session, manager string
		unit             string
		uid              int
	}{
		"/user.slice/user-1000.slice/session-3.scope": {"1000", "", "session-3.scope", 0},
		ofA:                {"", "1000", "", 1000},
		ofA + "/a.service": {"", "1000", "a.service", 1000},
		ofA + "/user-1001.slice/session-9.scope": {"", "1000",
			"session-9.scope", 1000},
		ofA + "/user@1001.service/b.service": {"", "1000",
			"user@1001.service", 1000},
		"/user.slice/user-1000.slice/user@1001.service/b.service": {"", "", "user@1001.service", 0},
		"/user.slice/user-1000.slice/session-3.scope/x":           {"", "", "session-3.scope", 0},
		"/user.slice/user-x.slice/session-3.scope":                {"", "", "session-3.scope", 0},
		"/system.slice/user-1000.slice/session-3.scope":           {"", "", "session-3.scope", 0},
		"/system.slice/cron.service":                              {"", "", "cron.service", 0},
		"":                                                        {},
	} {
		session, isSession := SessionOf(group)
		manager, isManager := managerOf(group)
		key, uid := unitOf(group)
		if isSession != (want.session != "") || isSession && session != want.session ||
			isManager != (want.manager != "") || isManager && manager != want.manager ||
			key.Native != want.unit || uid != want.uid {
			t.Errorf("%s: session of %q %v, manager of %q %v, unit %q of %d", group, session,
				isSession, manager, isManager, key.Native, uid)
		}
	}
}
