package demo

import (
	"bufio"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"gerastic/clients"
)

//go:embed hall.py
var hallSource []byte

// hall is the company's application in Python, a process of its own.
type hall struct {
	process *exec.Cmd
	input   io.Closer
	ended   chan struct{} // closed when it has
	url     *url.URL
}

// errNoPython says that there is no Python to run it with.
var errNoPython = errors.New("python3 is not there, so that the pages of the waiting halls are missing")

// startHall starts it, in a directory to which its source is written.
func startHall(dir, site, control, token string) (*hall, error) {
	python, err := exec.LookPath("python3")
	if err != nil {
		return nil, errNoPython
	}
	err = os.RemoveAll(dir) // what another version wrote
	if err == nil {
		err = os.CopyFS(dir, clients.Python)
	}
	if err != nil {
		return nil, fmt.Errorf("writing the kit for Python: %w", err)
	}
	source := filepath.Join(dir, "hall.py")
	if err := os.WriteFile(source, hallSource, 0o644); err != nil {
		return nil, err
	}
	h := &hall{process: exec.Command(python, "-B", source), ended: make(chan struct{})}
	h.process.Env = append(os.Environ(), "PYTHONPATH="+filepath.Join(dir, "python"), "OSTREL_SITE="+site, "OSTREL_CONTROL="+control, "OSTREL_TOKEN="+token)
	h.process.Stderr = os.Stderr // what goes wrong there
	out, err := h.process.StdoutPipe()
	if err == nil {
		h.input, err = h.process.StdinPipe() // it ends when this does, however that comes
	}
	if err == nil {
		err = h.process.Start()
	}
	if err != nil {
		return nil, fmt.Errorf("starting the application in Python: %w", err)
	}
	port, err := bufio.NewReader(out).ReadString('\n')
	go func() {
		defer close(h.ended)
		_ = h.process.Wait() // it is killed at the end
	}()
	if err != nil {
		h.stop()
		return nil, fmt.Errorf("the application in Python did not start: %w", err)
	}
	h.url = &url.URL{Scheme: "http", Host: "127.0.0.1:" + strings.TrimSpace(port)}
	return h, nil
}

func (h *hall) stop() {
	_ = h.process.Process.Kill() // it may have ended by itself
	<-h.ended
}

// hallPage is GET /hall/{port}: made by the application in Python, which tells the edge of it itself.
func (s *Site) hallPage(w http.ResponseWriter, r *http.Request) {
	to := s.hall.Load()
	if to == nil {
		http.NotFound(w, r)
		return
	}
	proxy := httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) { p.SetURL(to) }}
	proxy.ServeHTTP(w, r)
}

// boardPiece is GET /pieces/board/{port}: a port's board, for the application in Python.
func (s *Site) boardPiece(w http.ResponseWriter, r *http.Request) {
	slug := r.PathValue("port")
	if _, err := s.Content.Port(r.Context(), slug); err != nil {
		s.missing(w, err, "port")
		return
	}
	board, err := s.departuresBoard(r.Context(), slug)
	if err != nil {
		s.broken(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write([]byte(board))
}

// halls looks at the displays in the halls, now and then.
func (v *Visitors) halls(ctx context.Context) {
	for i := 0; ; i++ {
		select {
		case <-ctx.Done():
			return
		case <-time.After(2 * time.Second):
			v.visit(ctx, "/hall/"+ports[i%len(ports)].Slug, "")
		}
	}
}
