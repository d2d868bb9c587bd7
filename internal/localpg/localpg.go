//go:build linux

package localpg

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Options say how to run a cluster.
type Options struct {
	// Dir holds the cluster; it is made when missing. One owner at a time.
	Dir string
	// Throwaway gives up durability for speed: for tests and demos.
	Throwaway bool
}

// Cluster is a running PostgreSQL.
type Cluster struct {
	dir      string
	port     int
	password string
	options  Options
	lock     *os.File
	stop     sync.Once

	mu      sync.Mutex
	command *exec.Cmd
	ended   chan struct{} // closed when the command has
	down    error         // why there is none now; nil: there is
}

// superuser is the name that the owner signs in with.
const superuser = "gerastic"

// ErrMissing says that Debian's PostgreSQL is not installed.
var ErrMissing = errors.New("PostgreSQL is not installed; run: apt-get install postgresql")

// Start starts the cluster in o.Dir, after cleaning up what a crashed owner left. The
// cluster stops with Stop, and with the process that started it.
func Start(ctx context.Context, o Options) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("making the database's directory: %w", err)
	}
	if dir, err = filepath.EvalSymlinks(dir); err != nil { // a server's own view of where it works
		return nil, err
	}
	c := &Cluster{dir: dir, options: o}
	if c.lock, err = lock(filepath.Join(dir, "owner.lock")); err != nil {
		return nil, err
	}
	if err := c.start(ctx, bin, o.Throwaway); err != nil {
		c.lock.Close()
		return nil, err
	}
	return c, nil
}

func (c *Cluster) start(ctx context.Context, bin string, throwaway bool) error {
	owner, err := systemUser()
	if err != nil {
		return err
	}
	data := filepath.Join(c.dir, "data")
	if err := endLeftover(data); err != nil {
		return err
	}
	if err := c.initialise(ctx, bin, data, owner); err != nil {
		return err
	}
	secret, err := os.ReadFile(filepath.Join(c.dir, "password"))
	if err != nil {
		return fmt.Errorf("reading the database's password: %w", err)
	}
	c.password = string(secret)
	for attempt := 0; ; attempt++ {
		if c.port, err = freePort(); err != nil {
			return err
		}
		err = c.run(ctx, bin, data, owner, throwaway)
		if err == nil || attempt == 2 || ctx.Err() != nil {
			return err
		}
	}
}

// Pauses between tries to start a server again that has ended by itself.
const (
	firstPause = time.Second
	lastPause  = time.Minute
)

// Keep starts the server again whenever it ends by itself, at the same address, until ctx ends.
// The pauses grow while it does not stay.
func (c *Cluster) Keep(ctx context.Context, log *slog.Logger) {
	pause := firstPause
	for {
		c.mu.Lock()
		ended, since := c.ended, time.Now()
		c.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-ended:
		}
		if time.Since(since) > lastPause {
			pause = firstPause
		}
		c.setDown(errors.New("the server ended"))
		log.Error("the private database has ended; it is started again", "directory", c.dir, "in", pause)
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(pause):
			}
			pause = min(2*pause, lastPause)
			err := c.again(ctx)
			if err == nil {
				break
			}
			c.setDown(err)
			log.Error("the private database could not be started again", "in", pause, "error", err)
		}
		c.setDown(nil)
		log.Info("the private database is there again")
	}
}

// again starts the server where it was.
func (c *Cluster) again(ctx context.Context) error {
	bin, err := binaries()
	if err != nil {
		return err
	}
	owner, err := systemUser()
	if err != nil {
		return err
	}
	data := filepath.Join(c.dir, "data")
	if err := endLeftover(data); err != nil {
		return err
	}
	return c.run(ctx, bin, data, owner, c.options.Throwaway)
}

// Down says why there is no server now; nil if there is one.
func (c *Cluster) Down() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.down
}

func (c *Cluster) setDown(why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.down = why
}

// binaries finds the newest installed version.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", ErrMissing
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}

// lock keeps other owners away; the kernel lets go of it when the owner dies.
func lock(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the database's lock: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("the database in %s is in use by another process; stop it or name another directory", filepath.Dir(path))
	}
	return f, nil
}

// systemUser is who PostgreSQL runs as: nil for ourselves, or, since it refuses to run
// as root, the user that Debian's package made for it.
func systemUser() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// initialise makes the cluster if there is none. It is made aside and renamed, so that
// a crash in between leaves nothing that looks like one.
func (c *Cluster) initialise(ctx context.Context, bin, data string, owner *syscall.Credential) error {
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
		return nil
	}
	half := data + ".half"
	for _, leftover := range []string{half, data} {
		if err := os.RemoveAll(leftover); err != nil {
			return fmt.Errorf("removing a half-made database: %w", err)
		}
	}
	if err := os.Mkdir(half, 0o700); err != nil {
		return err
	}
	secretFile := filepath.Join(c.dir, "password")
	if err := os.WriteFile(secretFile, []byte(rand.Text()), 0o600); err != nil {
		return err
	}
	if owner != nil {
		for _, path := range []string{half, secretFile} {
			if err := os.Chown(path, int(owner.Uid), int(owner.Gid)); err != nil {
				return err
			}
		}
	}
	secret, err := os.Open(secretFile)
	if err != nil {
		return err
	}
	defer secret.Close()
	init := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", handedDir, "-U", superuser, "-E", "UTF8", "--locale=C.UTF-8",
		"--auth=scram-sha-256", "--pwfile=/proc/self/fd/4", "--no-sync", "--no-instructions")
	done, err := hand(init, half, owner)
	if err != nil {
		return err
	}
	defer done()
	init.ExtraFiles = append(init.ExtraFiles, secret)
	if out, err := init.CombinedOutput(); err != nil {
		return fmt.Errorf("making a database in %s: %w: %s", c.dir, err, lastLine(out))
	}
	return os.Rename(half, data)
}

// handedDir is how a server names the directory that it is handed.
const handedDir = "/proc/self/fd/3"

// hand lets a command run as owner in a directory that it is handed open: the
// directories above may be closed to that user, as root's home and temporary
// directories are.
func hand(command *exec.Cmd, dir string, owner *syscall.Credential) (done func(), err error) {
	open, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	command.ExtraFiles = []*os.File{open} // the first is number 3
	command.Dir = "/"
	command.SysProcAttr = &syscall.SysProcAttr{Credential: owner}
	return func() { open.Close() }, nil
}

// endLeftover stops a server that outlived its owner, and removes the pid file of one
// that did not.
func endLeftover(data string) error {
	file := filepath.Join(data, "postmaster.pid")
	content, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(content), "\n", 2)[0]))
	if err != nil || pid <= 1 {
		return os.Remove(file)
	}
	// A pid may have been given to somebody else since: only a server of this very
	// directory is ours to end.
	ours := func() bool {
		works, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
		return err == nil && works == data
	}
	if !ours() {
		return os.Remove(file)
	}
	if err := syscall.Kill(pid, syscall.SIGINT); err != nil {
		return fmt.Errorf("stopping the database that a crashed owner left (pid %d): %w", pid, err)
	}
	for range 200 {
		if !ours() {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("the database that a crashed owner left (pid %d) does not stop", pid)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// run starts the server and waits until it answers.
func (c *Cluster) run(ctx context.Context, bin, data string, owner *syscall.Credential, throwaway bool) error {
	logFile, err := os.OpenFile(filepath.Join(c.dir, "postgresql.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	defer logFile.Close()
	settings := []string{"-D", handedDir, "-p", strconv.Itoa(c.port)}
	for _, s := range []string{"listen_addresses=127.0.0.1", "unix_socket_directories=", "max_connections=80", "shared_buffers=64MB", "logging_collector=off", "wal_level=logical"} {
		settings = append(settings, "-c", s)
	}
	if throwaway {
		settings = append(settings, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	command := exec.Command(filepath.Join(bin, "postgres"), settings...)
	command.Stdout, command.Stderr = logFile, logFile
	done, err := hand(command, data, owner)
	if err != nil {
		return err
	}
	defer done()
	// Its own group keeps the terminal's interrupt from it: it stops when its owner says
	// so, or dies.
	command.SysProcAttr.Setpgid, command.SysProcAttr.Pdeathsig = true, syscall.SIGINT
	started := make(chan error, 1)
	ended := make(chan struct{})
	go func() {
		// The death signal comes when the starting thread ends, so that it must last.
		runtime.LockOSThread()
		err := command.Start()
		started <- err
		if err == nil {
			_ = command.Wait()
		}
		close(ended)
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting PostgreSQL: %w", err)
	}
	c.mu.Lock()
	c.command, c.ended = command, ended
	c.mu.Unlock()
	ready, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ready, c.URL("postgres"))
		if err == nil {
			return conn.Close(ready)
		}
		select {
		case <-ended:
			text, _ := os.ReadFile(logFile.Name())
			return fmt.Errorf("PostgreSQL ended at once: %s", lastLine(text))
		case <-ready.Done():
			c.halt()
			return fmt.Errorf("PostgreSQL did not answer: %w", err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// URL is a connection string for a database of the cluster.
func (c *Cluster) URL(database string) string {
	return fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", superuser, c.password, c.port, database)
}

// CreateDatabase makes a database if it is missing, and returns its connection string.
func (c *Cluster) CreateDatabase(ctx context.Context, name string) (string, error) {
	conn, err := pgx.Connect(ctx, c.URL("postgres"))
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	var exists bool
	if err := conn.QueryRow(ctx, "select exists (select from pg_database where datname = $1)", name).Scan(&exists); err != nil {
		return "", err
	}
	if !exists {
		if _, err := conn.Exec(ctx, "create database "+pgx.Identifier{name}.Sanitize()); err != nil {
			return "", fmt.Errorf("making database %s: %w", name, err)
		}
	}
	return c.URL(name), nil
}

// Pid is the server's process.
func (c *Cluster) Pid() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.command.Process.Pid
}

// Stop ends the server and waits for it. It may be called more than once.
func (c *Cluster) Stop() {
	c.stop.Do(func() {
		c.halt()
		c.lock.Close()
	})
}

func (c *Cluster) halt() {
	c.mu.Lock()
	command, ended := c.command, c.ended
	c.mu.Unlock()
	if command == nil {
		return // it never ran
	}
	_ = command.Process.Signal(syscall.SIGINT) // fast shutdown: ends sessions, writes all
	select {
	case <-ended:
	case <-time.After(15 * time.Second):
		_ = command.Process.Signal(syscall.SIGQUIT)
		<-ended
	}
}

func lastLine(out []byte) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	return lines[len(lines)-1]
}
