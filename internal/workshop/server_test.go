//go:build linux

package workshop

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"calmdawn/internal/ring"
)

// nobody is the user that the server runs as where the tests are root's: it
// refuses root.
const nobody = 65534

// TestMain ends the server that tests began.
func TestMain(m *testing.M) {
	code := m.Run()
	if server.stop != nil {
		server.stop()
	}
	os.Exit(code)
}

var server struct {
	sync.Once
	folder    string
	stop      func()
	err       error
	databases int
}

// database is a new and empty one on a server of our own, which needs the
// package postgresql.
func database(t testing.TB) string {
	t.Helper()
	server.Do(func() { server.err = startServer() })
	if server.err != nil {
		t.Fatal(server.err)
	}
	server.databases++
	name := fmt.Sprintf("w%d", server.databases)
	if out, err := tool("createdb", "-h", server.folder, "-U", "calm", name); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return fmt.Sprintf("postgres://calm@/%s?host=%s", name, server.folder)
}

// tool runs one of the server's programs as an ordinary user.
func tool(name string, words ...string) ([]byte, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if err != nil || len(found) == 0 {
		return nil, errors.New("there is no " + name + "; make deps installs it (postgresql)")
	}
	cmd := exec.Command(found[len(found)-1], words...)
	cmd.Dir = "/"
	if os.Geteuid() == 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{
			Credential: &syscall.Credential{Uid: nobody, Gid: nobody},
		}
	}
	return cmd.CombinedOutput()
}

func startServer() error {
	folder, err := os.MkdirTemp("/tmp", "cd-pg-") // a socket's path is short
	if err != nil {
		return err
	}
	server.folder = folder
	if os.Geteuid() == 0 {
		if err := os.Chown(folder, nobody, nobody); err != nil {
			return err
		}
	}
	data := filepath.Join(folder, "data")
	if out, err := tool("initdb", "-A", "trust", "--no-sync", "-U", "calm", "-E", "UTF8",
		"-D", data); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	server.stop = func() {
		tool("pg_ctl", "-m", "immediate", "-w", "-D", data, "stop")
		os.RemoveAll(folder)
	}
	out, err := tool("pg_ctl", "-w", "-D", data, "-l", filepath.Join(folder, "log"), "-o",
		"-k "+folder+" -c listen_addresses='' -c fsync=off", "start")
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// onServer runs a test on PostgreSQL too, in the middle ring.
func onServer(t *testing.T, test func(t *testing.T, s *Store)) {
	t.Run("PostgreSQL", func(t *testing.T) {
		ring.Needs(t, ring.Middle)
		s, err := Open(database(t), true)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		test(t, s)
	})
}

// TestTwoLoaders add the same machines at once: all of them are there, once.
func TestTwoLoaders(t *testing.T) {
	ring.Needs(t, ring.Middle)
	for _, where := range []string{filepath.Join(t.TempDir(), "w.db"), database(t)} {
		var wait sync.WaitGroup
		errs := make([]error, 3)
		for n := range errs {
			wait.Go(func() {
				s, err := Open(where, true)
				if err != nil {
					errs[n] = err
					return
				}
				defer s.Close()
				for i := range 20 {
					d, err := FromDocument(list(fmt.Sprint("m", i), day, "1",
						map[string]float64{"feed": 1, "poll": float64(i)}))
					if err == nil {
						_, err = s.Add(d, day.Add(time.Hour), "maria")
					}
					errs[n] = errors.Join(errs[n], err)
				}
			})
		}
		wait.Wait()
		if err := errors.Join(errs...); err != nil {
			t.Fatal(err)
		}
		s, err := Open(where, false)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		if st, err := s.Standing(); err != nil || st.Machines != 20 || st.Items != 2 {
			t.Errorf("%s: %+v, %v", s.Where, st, err)
		}
	}
}

func TestServersThatCannotBeUsed(t *testing.T) {
	for where, want := range map[string]string{
		"postgres://maria:s3cret@/shop":         "password file",
		"postgres:///shop?password=s3cret":      "password file",
		"postgres://maria@/shop?host=/nowhere1": "cannot be reached",
	} {
		_, err := Open(where, true)
		if err == nil || !strings.Contains(err.Error(), want) ||
			strings.Contains(err.Error(), "s3cret") {
			t.Errorf("%s: %v", where, err)
		}
	}
	ring.Needs(t, ring.Middle)
	if _, err := Open(database(t), false); !errors.Is(err, ErrNone) {
		t.Errorf("an empty database: %v", err)
	}
}

// TestARoleThatMayOnlyAdd puts deliveries into the inbox, and can do nothing
// else.
func TestARoleThatMayOnlyAdd(t *testing.T) {
	ring.Needs(t, ring.Middle)
	where := database(t)
	s, err := Open(where, true)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, words := range []string{
		"CREATE ROLE till LOGIN", "GRANT SELECT ON fact TO till",
		"GRANT INSERT (delivery, document) ON inbox TO till",
	} {
		if _, err := s.db.Exec(words); err != nil {
			t.Fatal(err)
		}
	}
	till, err := Open(strings.Replace(where, "calm@", "till@", 1), true)
	if err != nil {
		t.Fatal(err)
	}
	defer till.Close()
	d := delivered(t, list("a", day, "1", map[string]float64{"poll": 2}))
	if a, err := till.Add(d, day, "root"); err != nil || !till.OnlyAdds() || !a.Sent || a.New != 1 {
		t.Errorf("%+v, %v", a, err)
	}
	if a, err := till.Add(d, day, "root"); err != nil || a.New != 0 {
		t.Errorf("again %+v, %v", a, err)
	}
	for _, words := range []string{
		"SELECT count(*) FROM machine", "SELECT count(*) FROM inbox", "DELETE FROM inbox",
		"INSERT INTO inbox(delivery, sent_by, document) VALUES('x', 'calm', '')",
		"INSERT INTO fact(name, value) VALUES('x', 'y')",
	} {
		if _, err := till.db.Exec(words); err == nil {
			t.Errorf("a role that may only add did %s", words)
		}
	}
	// what was never made by calmdawn is refused, and told
	const strange = "INSERT INTO inbox(delivery, document) VALUES('x', '{')"
	if _, err := till.db.Exec(strange); err != nil {
		t.Fatal(err)
	}
	if n, err := s.Waiting(); n != 2 || err != nil {
		t.Errorf("%d wait, %v", n, err)
	}
	taken, refused, err := s.TakeIn(day)
	if err != nil || taken != 1 || len(refused) != 1 ||
		!strings.Contains(refused[0].Error(), "till") {
		t.Errorf("%d, %v, %v", taken, refused, err)
	}
	who, err := s.Who("")
	if err != nil || len(who) != 1 || who[0].By != "till" {
		t.Errorf("%+v, %v", who, err)
	}
	if n, err := s.Waiting(); n != 0 || err != nil {
		t.Errorf("%d wait still, %v", n, err)
	}
}
