package storetest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"evensprout/internal/store"
	"evensprout/internal/store/setwise"

	_ "github.com/go-sql-driver/mysql" // makes databases of MariaDB servers
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"
)

// Server is a database server of the tests' own: on a free loopback port, in a
// temporary folder, with defaults chosen to hurt. It may be killed.
type Server struct {
	folder  string
	command []string
	user    *syscall.Credential // nil for our own
	process *exec.Cmd
	ended   chan struct{}
	url     string // of a database; %s is its name
	create  func(ctx context.Context, s *Server, name, script string) error
	Port    int
}

const startWait = 60 * time.Second

// servers are those of this test process.
type servers struct {
	mu   sync.Mutex
	list map[string]*started
}

type started struct {
	server *Server
	err    error
}

var running = servers{list: map[string]*started{}}

// Main runs a package's tests and ends its servers.
func Main(m *testing.M) {
	debug.SetGCPercent(400) // tests have more memory than time
	remove := InMemory()
	code := m.Run()
	Stop()
	remove()
	os.Exit(code)
}

// Stop ends the servers of this process.
func Stop() {
	running.mu.Lock()
	defer running.mu.Unlock()
	for _, s := range running.list {
		if s.server != nil {
			s.server.Remove()
		}
	}
	clear(running.list)
}

// Postgres is a PostgreSQL server, started at the first call. Where there is none and
// none can be installed, the test is skipped.
func Postgres(t testing.TB) *Server {
	t.Helper()
	return running.get(t, "PostgreSQL", "postgresql", func() string { return program("postgres") }, StartPostgres)
}

// MariaDB is a MariaDB server, likewise.
func MariaDB(t testing.TB) *Server {
	t.Helper()
	return running.get(t, "MariaDB", "mariadb-server", func() string { return program("mariadbd") }, StartMariaDB)
}

func (r *servers) get(
	t testing.TB,
	name, packageName string,
	find func() string,
	start func() (*Server, error),
) *Server {
	t.Helper()
	if testing.Short() {
		t.Skip("short tests need no server")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.list[name]
	if s == nil {
		s = &started{}
		r.list[name] = s
		if find() == "" {
			s.err = install(packageName)
		}
		if s.err == nil {
			s.server, s.err = start()
		}
		if s.err != nil {
			fmt.Fprintf(os.Stderr, "\n***** SKIPPED: no tests against %s: %v *****\n\n", name, s.err)
		}
	}
	if s.err != nil {
		t.Skipf("no %s: %v", name, s.err)
	}
	return s.server
}

// install asks Debian's package manager for a server.
func install(name string) error {
	if os.Geteuid() != 0 {
		return fmt.Errorf("its programs are not installed: apt-get install %s", name)
	}
	c := exec.Command("apt-get", "install", "-y", "--no-install-recommends", name)
	c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive", "RUNLEVEL=1")
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("apt-get install %s: %w\n%s", name, err, out)
	}
	return nil
}

// program finds a server's program: in the folder of the version that is tested, or newest version first; empty if it
// is not there.
func program(name string) string {
	if folder := os.Getenv("EVENSPROUT_SERVER_PROGRAMS"); folder != "" {
		if path := filepath.Join(folder, name); executable(path) {
			return path
		}
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if len(found) > 0 {
		return found[len(found)-1]
	}
	for _, folder := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin", "/usr/bin") {
		if path := filepath.Join(folder, name); executable(path) {
			return path
		}
	}
	return ""
}

func executable(path string) bool {
	info, err := os.Stat(path)
	return err == nil && !info.IsDir()
}

// freePort is a loopback port that nobody listens on.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// newServer makes a folder that a server's user may write to: servers refuse to run as
// root.
func newServer(users ...string) (*Server, error) {
	folder, err := os.MkdirTemp("", "evensprout-server-*")
	if err != nil {
		return nil, err
	}
	s := &Server{folder: folder}
	if s.Port, err = freePort(); err != nil {
		return nil, err
	}
	if os.Geteuid() != 0 {
		return s, nil
	}
	for _, name := range append(users, "nobody") {
		if u, err := user.Lookup(name); err == nil {
			uid, _ := strconv.Atoi(u.Uid)
			gid, _ := strconv.Atoi(u.Gid)
			s.user = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
			return s, os.Chown(folder, uid, gid)
		}
	}
	return nil, errors.New("there is no user to run a server as")
}

func (s *Server) run(name string, args ...string) error {
	c := exec.Command(name, args...)
	c.Dir = s.folder
	c.SysProcAttr = &syscall.SysProcAttr{Credential: s.user}
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", name, err, out)
	}
	return nil
}

// StartPostgres starts a server with defaults that a careful client must not rely on.
func StartPostgres() (*Server, error) {
	s, err := newServer("postgres")
	if err != nil {
		return nil, err
	}
	data := filepath.Join(s.folder, "data")
	if err := s.run(program("initdb"), "-D", data, "-U", "tester", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8",
		"--no-sync"); err != nil {
		return nil, err
	}
	s.command = []string{
		program("postgres"),
		"-D",
		data,
		"-p",
		strconv.Itoa(s.Port),
		"-h",
		"127.0.0.1",
		"-k",
		s.folder,
		"-F",
	}
	for _, setting := range []string{"shared_buffers=256MB", "dynamic_shared_memory_type=mmap",
		"max_wal_size=4GB", "full_page_writes=off",
		"max_connections=40", "deadlock_timeout=100ms",
		"DateStyle=German, DMY", "TimeZone=Asia/Kathmandu", "bytea_output=escape", "standard_conforming_strings=off",
		"extra_float_digits=-15",
		"default_transaction_isolation=serializable", "default_transaction_read_only=off",
		"IntervalStyle=sql_standard", "statement_timeout=20s",
		"client_encoding=LATIN1"} {
		s.command = append(s.command, "-c", setting)
	}
	s.url = fmt.Sprintf("postgres://tester@127.0.0.1:%d/%%s", s.Port)
	s.create = createPostgres
	return s, s.Start()
}

func createPostgres(ctx context.Context, s *Server, name, script string) error {
	if name != "postgres" {
		admin, err := pgconn.Connect(ctx, s.URL("postgres"))
		if err != nil {
			return err
		}
		_, err = admin.Exec(ctx, `CREATE DATABASE "`+name+`"`).ReadAll()
		admin.Close(ctx)
		if err != nil {
			return err
		}
	}
	// A standby has no other level of isolation than that one, and our server another default.
	c, err := pgconn.Connect(ctx, s.URL(name)+"?client_encoding=UTF8&default_transaction_isolation=read%20committed")
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, script).ReadAll()
	return err
}

// StartMariaDB starts a server likewise.
func StartMariaDB() (*Server, error) {
	s, err := newServer("mysql")
	if err != nil {
		return nil, err
	}
	data := filepath.Join(s.folder, "data")

	// A server deletes temporary tables of others in a folder that they share.
	if err := s.run(program("mariadb-install-db"), "--no-defaults", "--datadir="+data, "--tmpdir="+s.folder,
		"--auth-root-authentication-method=normal", "--skip-test-db"); err != nil {
		return nil, err
	}
	s.command = []string{
		program("mariadbd"),
		"--no-defaults",
		"--datadir=" + data,
		"--tmpdir=" + s.folder,
		"--port=" + strconv.Itoa(s.Port),
		"--bind-address=127.0.0.1",
		"--socket=" + filepath.Join(
			s.folder,
			"socket",
		),
		"--pid-file=" + filepath.Join(s.folder, "pid"),
		"--skip-log-bin",
		"--innodb-flush-log-at-trx-commit=2",
		"--innodb-buffer-pool-size=256M",
		"--innodb-log-file-size=256M",
		"--innodb-doublewrite=0",
		"--sql-mode=",
		"--default-time-zone=+05:45",
		"--character-set-server=latin1",
		"--transaction-isolation=SERIALIZABLE",
		"--auto-increment-increment=3",
		"--auto-increment-offset=2",
		"--autocommit=0",
		"--completion-type=CHAIN",
	}
	s.url = fmt.Sprintf("mysql://root@127.0.0.1:%d/%%s", s.Port)
	s.create = createMariaDB
	return s, s.Start()
}

func createMariaDB(ctx context.Context, s *Server, name, script string) error {
	db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(127.0.0.1:%d)/mysql?multiStatements=true", s.Port))
	if err != nil {
		return err
	}
	defer db.Close()
	if name == "mysql" {
		return db.PingContext(ctx)
	}
	_, err = db.ExecContext(
		ctx,
		"SET NAMES utf8mb4, sql_mode = 'ANSI_QUOTES', autocommit = 1; CREATE DATABASE `"+name+"` CHARACTER SET "+
			"utf8mb4; USE `"+name+"`;\n"+script,
	)
	return err
}

// Start starts the server, or starts it again after Kill, and waits until it answers.
func (s *Server) Start() error {
	s.process = exec.Command(s.command[0], s.command[1:]...)
	s.process.Dir = s.folder
	log, err := os.OpenFile(filepath.Join(s.folder, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	s.process.Stdout, s.process.Stderr = log, log

	// The server ends with the tests, however they end. The kernel watches the thread
	// that started it, so that thread must stay.
	s.process.SysProcAttr = &syscall.SysProcAttr{Credential: s.user, Pdeathsig: syscall.SIGKILL}
	s.ended = make(chan struct{})
	begun := make(chan error)
	go func() {
		runtime.LockOSThread()
		begun <- s.process.Start()
		s.process.Wait()
		close(s.ended)
	}()
	if err := <-begun; err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), startWait)
	defer cancel()
	first := "mysql"
	if strings.HasPrefix(s.url, "postgres") {
		first = "postgres"
	}
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		if s.create(ctx, s, first, "SELECT 1") == nil {
			return nil
		}
		select {
		case <-s.ended:
			text, _ := os.ReadFile(filepath.Join(s.folder, "log"))
			return fmt.Errorf("the server ended:\n%s", text)
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// Give makes the user that the server runs as the owner of a folder.
func (s *Server) Give(folder string) error {
	if s.user == nil {
		return nil
	}
	return os.Chown(folder, int(s.user.Uid), int(s.user.Gid))
}

// Folder is where the server keeps its files, its socket among them.
func (s *Server) Folder() string { return s.folder }

// Log is what the server wrote.
func (s *Server) Log() string {
	text, _ := os.ReadFile(filepath.Join(s.folder, "log"))
	return string(text)
}

// Kill ends the server as a power failure would: with the processes that it started,
// which would go on for a while.
func (s *Server) Kill() {
	if s.process == nil {
		return // it was never started
	}
	pid := s.process.Process.Pid
	s.process.Process.Signal(syscall.SIGSTOP) // so that it starts no more
	started := children(pid)
	for _, child := range started {
		syscall.Kill(child, syscall.SIGKILL)
	}
	s.process.Process.Kill()
	<-s.ended
	// What they share in memory is free once they are gone, too.
	for deadline := time.Now().Add(startWait); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
		if !slices.ContainsFunc(started, func(child int) bool { return syscall.Kill(child, 0) == nil }) {
			return
		}
	}
}

// children are the processes that a process started.
func children(pid int) []int {
	var out []int
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range stats {
		text, err := os.ReadFile(path)
		if err != nil {
			continue // it has ended
		}
		// pid (name) state parent ...; the name may hold anything
		_, rest, _ := strings.Cut(string(text[strings.LastIndexByte(string(text), ')')+1:]), " ")
		fields := strings.Fields(rest)
		if len(fields) > 1 && fields[1] == strconv.Itoa(pid) {
			if child, err := strconv.Atoi(filepath.Base(filepath.Dir(path))); err == nil {
				out = append(out, child)
			}
		}
	}
	return out
}

// Remove ends the server and removes its folder.
func (s *Server) Remove() {
	s.Kill()
	os.RemoveAll(s.folder)
}

// URL names a database of the server.
func (s *Server) URL(database string) string { return fmt.Sprintf(s.url, database) }

// Exec runs statements in a database, each on its own.
func Exec(t testing.TB, d store.Driver, url string, statements ...string) {
	t.Helper()
	s, err := d.Open(context.Background(), url)
	require.NoError(t, err)
	defer s.Close()
	for _, sql := range statements {
		_, err := s.(setwise.Engine).Exec(context.Background(), sql)
		require.NoError(t, err, sql)
	}
}

var made atomic.Int64

// Database makes a database by a script of statements and returns its URL.
func (s *Server) Database(t testing.TB, script string) string {
	t.Helper()
	name := fmt.Sprintf("test_%d", made.Add(1))
	require.NoError(t, s.create(context.Background(), s, name, script))
	return s.URL(name)
}

// Owned makes a PostgreSQL database that belongs to an ordinary role, as that role, and
// returns its URL for the role.
func (s *Server) Owned(t testing.TB, script string) string {
	t.Helper()
	url := s.Database(t, `DO $$ BEGIN
		EXECUTE format('CREATE ROLE %I LOGIN', 'owner_' || current_database());
		EXECUTE format('ALTER DATABASE %I OWNER TO %I', current_database(), 'owner_' || current_database());
	END $$`)
	url = strings.Replace(url, "tester@", "owner_"+url[strings.LastIndexByte(url, '/')+1:]+"@", 1)
	c, err := pgconn.Connect(t.Context(), url)
	require.NoError(t, err)
	_, err = c.Exec(t.Context(), script).ReadAll()
	require.NoError(t, err)
	require.NoError(t, c.Close(t.Context()))
	return url
}

// Standby starts a PostgreSQL server that follows this one.
func (s *Server) Standby(t testing.TB) *Server {
	t.Helper()
	n, err := newServer("postgres")
	require.NoError(t, err)
	t.Cleanup(n.Remove)
	data := filepath.Join(n.folder, "data")
	backup := program("pg_basebackup")
	if filepath.Dir(backup) == filepath.Dir(s.command[0]) {
		require.NoError(t, n.run(backup, "-h", "127.0.0.1", "-p", strconv.Itoa(s.Port), "-U", "tester", "-D", data,
			"-R", "-X", "stream", "-c", "fast", "--no-sync"))
	} else { // that of another version may not do: the files are copied while nobody writes to them
		s.Kill()
		require.NoError(t, n.run("cp", "-a", s.command[2], data))
		from := fmt.Sprintf("primary_conninfo = 'host=127.0.0.1 port=%d user=tester'", s.Port)
		require.NoError(t, n.run("sh", "-c", `rm -f "$1/postmaster.pid" && touch "$1/standby.signal" && `+
			`echo "$2" >> "$1/postgresql.auto.conf"`, "sh", data, from))
		require.NoError(t, s.Start())
	}
	n.command = append(
		[]string{s.command[0], "-D", data, "-p", strconv.Itoa(n.Port), "-h", "127.0.0.1", "-k", n.folder},
		s.command[9:]...)
	n.url, n.create = fmt.Sprintf("postgres://tester@127.0.0.1:%d/%%s", n.Port), createPostgres
	require.NoError(t, n.Start())
	return n
}

// Ask runs a statement and returns the first cell of its first row.
func (s *Server) Ask(t testing.TB, database, sql string) string {
	t.Helper()
	c, err := pgconn.Connect(context.Background(), s.URL(database)+"?default_transaction_isolation=read%20committed")
	require.NoError(t, err)
	defer c.Close(context.Background())
	r, err := c.Exec(context.Background(), sql).ReadAll()
	require.NoError(t, err, sql)
	if len(r) == 0 || len(r[0].Rows) == 0 {
		return ""
	}
	return string(r[0].Rows[0][0])
}

// Client is the path of an engine's own client, installed if need be. Where it is not and
// cannot be, the test is skipped.
func Client(t testing.TB, name, packageName string) string {
	t.Helper()
	running.mu.Lock()
	defer running.mu.Unlock()
	if program(name) == "" {
		if err := install(packageName); err != nil {
			t.Skipf("no %s: %v", name, err)
		}
	}
	return program(name)
}

// IsTested reports whether tests concern an engine: where another version of PostgreSQL is tried, the others do not.
func IsTested(engine string) bool {
	return os.Getenv("EVENSPROUT_SERVER_PROGRAMS") == "" || engine == "postgres"
}

// PostgresVersion is the version of the programs that tests start, such as 15.
func PostgresVersion(t testing.TB) int {
	t.Helper()
	out, err := exec.Command(program("postgres"), "--version").Output()
	require.NoError(t, err)
	words := strings.Fields(string(out)) // postgres (PostgreSQL) 15.14 (Debian 15.14-0+deb12u1)
	require.Greater(t, len(words), 2)
	major, _, _ := strings.Cut(words[2], ".")
	n, err := strconv.Atoi(major)
	require.NoError(t, err)
	return n
}
