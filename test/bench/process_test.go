package bench

import (
	"bufio"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"gerastic/internal/node"
)

// roles are what this program does in a process of its own, so that a client is measured
// beside a server whose work and memory are not the client's.
var roles = map[string]func(ctx context.Context) (address string, stop func(), err error){
	"node": func(ctx context.Context) (string, func(), error) {
		memory := int64(256 << 20)
		if most, err := strconv.ParseInt(os.Getenv("BENCH_MEMORY"), 10, 64); err == nil {
			memory = most
		}
		disk, _ := strconv.ParseInt(os.Getenv("BENCH_DISK"), 10, 64) // none if it is not set
		n, err := node.Start(ctx, node.Settings{Name: "bench", Data: os.Getenv("BENCH_DATA"),
			Database: os.Getenv("BENCH_DATABASE"), PolicyFile: filepath.Join(os.Getenv("BENCH_DATA"), "policy.yaml"),
			AdminToken: benchToken, Edge: "127.0.0.1:0", Control: "127.0.0.1:0", Memory: memory, Disk: disk, OwnsProcess: true, Log: slog.New(slog.DiscardHandler)})
		if err != nil {
			return "", nil, err
		}
		return fmt.Sprint(os.Getpid(), " ", n.ControlURL(), " ", n.EdgeURL()), func() { n.Stop(ctx) }, nil
	},
	// bare answers every request with the bytes of a file.
	"bare": func(context.Context) (string, func(), error) {
		reply, err := os.ReadFile(os.Getenv("BENCH_REPLY"))
		if err != nil {
			return "", nil, err
		}
		length := []string{strconv.Itoa(len(reply))}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", nil, err
		}
		s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			h := w.Header()
			h["Content-Type"] = []string{"application/cbor-seq"}
			h["Content-Length"] = length
			_, _ = w.Write(reply)
		})}
		go func() { _ = s.Serve(l) }()
		return "http://" + l.Addr().String(), func() { _ = s.Close() }, nil
	},
}

const benchToken = "a token of the bench"

func TestMain(m *testing.M) {
	role := roles[os.Getenv("BENCH_ROLE")]
	if role == nil {
		os.Exit(m.Run())
	}
	address, stop, err := role(context.Background())
	fmt.Println(address, err)
	if err == nil {
		_, _ = bufio.NewReader(os.Stdin).ReadString('\n') // until whoever started it is gone
		stop()
	}
	os.Exit(0)
}

// process runs a role, until the benchmark ends, and returns its addresses.
func process(tb testing.TB, role string, env ...string) []string {
	c := exec.Command(os.Args[0])
	c.Env = append(append(os.Environ(), "BENCH_ROLE="+role), env...)
	in, err := c.StdinPipe()
	require.NoError(tb, err)
	out, err := c.StdoutPipe()
	require.NoError(tb, err)
	c.Stderr = os.Stderr
	require.NoError(tb, c.Start())
	tb.Cleanup(func() {
		in.Close()
		_ = c.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(tb, err)
	require.Contains(tb, line, "<nil>", "the %s did not start", role)
	return strings.Fields(strings.TrimSuffix(strings.TrimSpace(line), "<nil>"))
}

// nodeProcess runs a node with a policy in a process of its own.
func nodeProcess(tb testing.TB, policy string) (control, edge string) {
	addresses := nodeAddresses(tb, policy)
	return addresses[1], addresses[2]
}

// nodeAddresses returns its process, too.
func nodeAddresses(tb testing.TB, policy string) []string {
	data := tb.TempDir()
	require.NoError(tb, os.WriteFile(filepath.Join(data, "policy.yaml"), []byte(policy), 0o600))
	return process(tb, "node", "BENCH_DATA="+data, "BENCH_DATABASE="+ownDatabase(tb))
}
