package bench

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// BenchmarkKits times the kits of other languages against a bare exchange by the client of their own
// language: one fragment found, a hundred in one trip, and a hundred one by one.
func BenchmarkKits(b *testing.B) {
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	n, err := node.Start(b.Context(), node.Settings{Name: "a", Data: b.TempDir(), Origin: site.URL, Memory: 64 << 20, Log: quiet, Edge: "127.0.0.1:0", Control: "127.0.0.1:0", AdminToken: "a token of the benchmark"})
	require.NoError(b, err)
	defer n.Stop(b.Context())
	token, err := client.New(n.ControlURL(), "a token of the benchmark").CreateToken(b.Context(), "bench", []string{"fragments"}, "bench")
	require.NoError(b, err)
	for language, command := range map[string][]string{
		"python": {"/usr/bin/python3", "../../clients/python/test/runner.py"}, "php": {"php", "../../clients/php/test/runner.php"},
		"ruby": {"ruby", "../../clients/ruby/test/runner.rb"}, "js": {"node", "../../clients/js/test/runner.js"},
	} {
		b.Run(language, func(b *testing.B) {
			p := exec.Command(command[0], command[1], n.ControlURL(), token.Secret)
			p.Stderr = os.Stderr
			in, err := p.StdinPipe()
			require.NoError(b, err)
			out, err := p.StdoutPipe()
			require.NoError(b, err)
			require.NoError(b, p.Start())
			defer func() {
				in.Close()
				_ = p.Wait()
			}()
			answers := bufio.NewReader(out)
			for b.Loop() {
				fmt.Fprintf(in, `{"do": "bench", "control": %q, "token": %q, "rounds": 21}`+"\n", n.ControlURL(), token.Secret)
				line, err := answers.ReadString('\n')
				require.NoError(b, err)
				var took struct{ Bare, One, Hundred, Each float64 }
				require.NoError(b, json.Unmarshal([]byte(line), &took), line)
				require.NotZero(b, took.Bare, line)
				b.ReportMetric(took.One, "one-µs")
				b.ReportMetric(took.One/took.Bare, "one-to-bare")
				b.ReportMetric(took.Hundred, "hundred-µs")
				b.ReportMetric(took.Each/took.Hundred, "times-faster")
				b.Logf("one %.0f µs, bare %.0f, a hundred %.0f, one by one %.0f", took.One, took.Bare, took.Hundred, took.Each)
				if took.One > 1.3*took.Bare {
					missed(b, "not so: one fragment found takes at most 1.3 times a bare exchange")
				}
				if took.Each < 10*took.Hundred {
					missed(b, "not so: a hundred at once are 10 times faster")
				}
			}
		})
	}
}
