//go:build linux

package localpg

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var ctx = context.Background()

// TestMain lets the test binary play an owner that crashes.
func TestMain(m *testing.M) {
	if dir := os.Getenv("LOCALPG_OWNER"); dir != "" {
		c, err := Start(ctx, Options{Dir: dir, Throwaway: true})
		if err != nil {
			fmt.Println("error:", err)
			os.Exit(1)
		}
		fmt.Println("pid", c.Pid(), c.URL("postgres"))
		select {}
	}
	os.Exit(m.Run())
}

func alive(pid int) bool {
	state, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && !strings.Contains(string(state), ") Z ")
}

func start(t *testing.T, dir string) *Cluster {
	c, err := Start(ctx, Options{Dir: dir, Throwaway: true})
	require.NoError(t, err)
	t.Cleanup(c.Stop)
	return c
}

func TestAClusterKeepsItsContentAndHasOneOwner(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pg")
	c := start(t, dir)
	url, err := c.CreateDatabase(ctx, "ostrel")
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	_, err = conn.Exec(ctx, "create table port (name text); insert into port values ('Tholm')")
	require.NoError(t, err)
	conn.Close(ctx)

	_, err = Start(ctx, Options{Dir: dir})
	assert.ErrorContains(t, err, "in use by another process")
	_, err = pgx.Connect(ctx, strings.Replace(url, c.password, "guess", 1))
	assert.Error(t, err, "loopback alone opens nothing")
	info, err := os.Stat(filepath.Join(dir, "password"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	pid := c.Pid()
	c.Stop()
	assert.False(t, alive(pid), "it stops with Stop")
	again := start(t, dir)
	url, err = again.CreateDatabase(ctx, "ostrel")
	require.NoError(t, err)
	conn, err = pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer conn.Close(ctx)
	var name string
	require.NoError(t, conn.QueryRow(ctx, "select name from port").Scan(&name))
	assert.Equal(t, "Tholm", name)
}

func TestItStopsWithAnOwnerThatCrashes(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pg")
	owner := exec.Command(os.Args[0])
	owner.Env = append(os.Environ(), "LOCALPG_OWNER="+dir)
	out, err := owner.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, owner.Start())
	var pid int
	var url string
	_, err = fmt.Fscanf(out, "pid %d %s\n", &pid, &url)
	require.NoError(t, err)
	require.True(t, alive(pid))
	require.NoError(t, owner.Process.Kill())
	_ = owner.Wait()
	start(t, dir) // at once: while the old server may still be stopping
	assert.Eventually(t, func() bool { return !alive(pid) }, 10*time.Second, 10*time.Millisecond)
}

func TestWhatACrashLeftIsCleanedUp(t *testing.T) {
	for name, leave := range map[string]func(t *testing.T, dir string){
		"a half-made directory": func(t *testing.T, dir string) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "data.half", "base"), 0o755))
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "data"), 0o755))
		},
		"a pid file of a process that is somebody else": func(t *testing.T, dir string) {
			start(t, dir).Stop()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "data", "postmaster.pid"), fmt.Appendf(nil, "%d\n", os.Getpid()), 0o600))
		},
		"a server that goes on without its owner": func(t *testing.T, dir string) {
			c := start(t, dir)
			c.lock.Close()
		},
		"a server that was killed": func(t *testing.T, dir string) {
			c := start(t, dir)
			require.NoError(t, syscall.Kill(c.Pid(), syscall.SIGKILL))
			<-c.ended
			c.lock.Close()
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "pg")
			leave(t, dir)
			c := start(t, dir)
			conn, err := pgx.Connect(ctx, c.URL("postgres"))
			require.NoError(t, err)
			conn.Close(ctx)
		})
	}
}
