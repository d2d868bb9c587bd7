package demo

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"gerastic.example/client"
	"gerastic.example/client/aftercommit"

	"gerastic/internal/localpg"
	"gerastic/internal/node"
)

//go:embed policy.yaml
var policy []byte

// Options say how the demo runs.
type Options struct {
	Node     node.Settings // Data, Edge, Control, Memory, Console, Log; the rest is set here
	Origin   string        // listen address of the ferry company
	Visitors float64       // page visits a second
	Editors  time.Duration // about this long between edits; 0: none
	Imports  time.Duration // between bulk imports that nobody is told of; 0: none
	Slow     float64       // scale of the application's simulated costs
	History  bool          // make up an hour of figures if there are none
	// Command is how the reader calls gerastic, for the commands to paste.
	Command string
}

// Demo is a running demo: database, origin, node, visitors and editors.
type Demo struct {
	Node    *node.Node
	Site    *Site
	Token   string
	Origin  string           // its address
	Cluster *localpg.Cluster // the database server of node and company
	options Options
	content *Content
	outbox  *aftercommit.Outbox
	server  *http.Server
	hall    *hall
	end     context.CancelFunc
	tasks   sync.WaitGroup
}

// Start starts everything. Stop stops it.
func Start(ctx context.Context, o Options) (d *Demo, err error) {
	d = &Demo{options: o}
	defer func() {
		if err != nil {
			d.Stop(ctx)
		}
	}()
	listener, err := net.Listen("tcp", o.Origin)
	if err != nil {
		return d, fmt.Errorf("--origin %s cannot be listened on; is another demo running? (%w)", o.Origin, errors.Unwrap(err))
	}
	d.Origin = "http://" + listener.Addr().String()
	if err := d.openContent(ctx); err != nil {
		listener.Close()
		return d, err
	}
	if err := d.startNode(ctx); err != nil {
		listener.Close()
		return d, err
	}
	if err := d.startSite(ctx, listener); err != nil {
		return d, err
	}
	if err := d.history(ctx); err != nil {
		return d, err
	}
	return d, d.startPeople(ctx)
}

// openContent starts the database server, with the company's content in it.
func (d *Demo) openContent(ctx context.Context) (err error) {
	if err := os.MkdirAll(d.options.Node.Data, 0o755); err != nil {
		return fmt.Errorf("making the demo's directory: %w", err)
	}
	d.Cluster, err = localpg.Start(ctx, localpg.Options{Dir: filepath.Join(d.options.Node.Data, "postgresql"), Throwaway: true})
	if err != nil {
		return err
	}
	url, err := d.Cluster.CreateDatabase(ctx, "ostrel")
	if err != nil {
		return err
	}
	if d.content, err = OpenContent(ctx, url, time.Now()); err != nil {
		return err
	}
	return os.Setenv("OSTREL_DATABASE", url)
}

func (d *Demo) startNode(ctx context.Context) error {
	s := d.options.Node
	var err error
	if s.Database, err = d.Cluster.CreateDatabase(ctx, "gerastic"); err != nil {
		return err
	}
	if s.Name == "" {
		s.Name = "demo"
	}
	s.PolicyFile = filepath.Join(s.Data, "policy.yaml")
	if err := os.WriteFile(s.PolicyFile, policy, 0o644); err != nil {
		return err
	}
	s.PolicyForce = true // the origin's address may be another than at the last start
	if err := os.Setenv("OSTREL_ORIGIN", d.Origin); err != nil {
		return err
	}
	if d.Node, err = node.Start(ctx, s); err != nil {
		return err
	}
	d.Token = s.AdminToken
	if d.Token == "" {
		kept, err := os.ReadFile(filepath.Join(s.Data, node.AdminTokenFile))
		if err != nil {
			return err
		}
		d.Token = string(kept[:len(kept)-1])
	}
	return nil
}

func (d *Demo) startSite(ctx context.Context, listener net.Listener) error {
	// The desk purges with a token of its own, that can do nothing else.
	desk, err := client.New(d.Node.ControlURL(), d.Token).CreateToken(ctx, "operations desk", []string{"purge"}, "")
	if err == nil {
		d.outbox, err = aftercommit.Open(ctx, d.content.pool, client.New(d.Node.ControlURL(), desk.Secret), d.options.Node.Log)
	}
	var site client.Token // and the application keeps its fragments with another
	if err == nil {
		site, err = client.New(d.Node.ControlURL(), d.Token).CreateToken(ctx, "ferry company", []string{"fragments"}, "site")
	}
	if err == nil {
		fragments := client.New(d.Node.ControlURL(), site.Secret).Fragments(client.FragmentOptions{Timeout: 5 * time.Second, Log: d.options.Node.Log})
		d.Site, err = NewSite(Parts{Content: d.content, Outbox: d.outbox, Fragments: fragments, Log: d.options.Node.Log, Slow: d.options.Slow, Now: time.Now})
	}
	if err != nil {
		listener.Close()
		return err
	}
	d.server = &http.Server{Handler: d.Site, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(d.options.Node.Log.Handler(), slog.LevelDebug)}
	d.tasks.Go(func() { _ = d.server.Serve(listener) })
	d.hall, err = startHall(filepath.Join(d.options.Node.Data, "hall"), d.Origin, d.Node.ControlURL(), site.Secret)
	if err != nil { // the company does without
		d.options.Node.Log.Warn(err.Error())
		return nil
	}
	d.Site.hall.Store(d.hall.url)
	return nil
}

// imports changes the timetable now and then, straight in the database.
func (d *Demo) imports(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(d.options.Imports):
		}
		if _, err := d.content.Import(ctx, time.Now()); err != nil && ctx.Err() == nil {
			d.options.Node.Log.Error("the bulk import failed", "error", err)
		}
	}
}

// history makes up figures if the database has none.
func (d *Demo) history(ctx context.Context) error {
	if !d.options.History {
		return nil
	}
	rec, err := d.Node.Records()
	if err != nil {
		return err
	}
	now := time.Now()
	rows, err := rec.Figures(ctx, now.Add(-24*time.Hour), now, 0, "")
	if err != nil || len(rows) > 0 {
		return err
	}
	return MakeUpHistory(ctx, rec, d.Node.Name(), now)
}

func (d *Demo) startPeople(ctx context.Context) error {
	rows, err := d.content.pool.Query(ctx, `select id from sailing where departs_at > now() and departs_at < now() + interval '4 days' order by departs_at, id limit 600`)
	if err != nil {
		return err
	}
	sailings, err := pgx.CollectRows(rows, pgx.RowTo[int])
	if err != nil {
		return err
	}
	life, end := context.WithCancel(context.Background())
	d.end = end
	d.tasks.Go(func() { d.Cluster.Keep(life, d.options.Node.Log) })
	if d.options.Visitors > 0 {
		v := &Visitors{Base: d.Node.EdgeURL(), PerSecond: d.options.Visitors, Sailings: sailings}
		d.tasks.Go(func() { v.Run(life) })
	}
	if d.options.Editors > 0 {
		e := &Editors{Origin: d.Origin, Every: d.options.Editors, Sailings: sailings}
		d.tasks.Go(func() { e.Run(life) })
	}
	if d.options.Imports > 0 {
		d.tasks.Go(func() { d.imports(life) })
	}
	return nil
}

// Welcome prints where everything is and what to try first.
func (d *Demo) Welcome(w io.Writer) {
	edge, command := d.Node.EdgeURL(), d.options.Command+d.flags()
	fmt.Fprintf(w, `
Ostrel Isles Ferries is at sea.

  the site, through Gerastic   %s/
  the site, without it         %s/
  the console                  %s/
  its token                    %s

Try first, in another terminal:

  curl -si %s/ports/tholm | grep -iE '^(HTTP|age|cache-status)'
  %s purge --tag port:tholm --reason 'trying it out'
  %s report ratio --since 5m
  %s fragments show /ports/tholm
  %s entries list --sort worth --limit 5
  %s prime --sitemap %s/sitemap.xml
  %s report size --since 5m
  open %s/ports/tholm#explain=%s
  curl -s -X POST %s/desk/import && sleep 1 && %s changes log --limit 3

`, edge, d.Origin, d.Node.ControlURL(), d.Token, edge, command, command, command, command, command, edge, command, edge, d.Token, d.Origin, command)
}

// flags are what commands need to find this demo, where it is not where they look by default.
func (d *Demo) flags() (flags string) {
	if at := d.Node.ControlURL(); at != client.DefaultControl {
		flags += " --control " + at
	}
	switch data := d.options.Node.Data; {
	case d.options.Node.AdminToken != "":
		flags += " --token " + d.Token
	case data != node.DefaultData:
		flags += " --data " + data
	}
	return flags
}

// Stop stops everything that Start started.
func (d *Demo) Stop(ctx context.Context) {
	if d.end != nil {
		d.end()
	}
	if d.server != nil {
		if d.server.Shutdown(ctx) != nil {
			d.server.Close()
		}
	}
	d.tasks.Wait()
	if d.hall != nil {
		d.hall.stop()
	}
	if d.outbox != nil {
		d.outbox.Close()
	}
	if d.Node != nil {
		d.Node.Stop(ctx)
	}
	if d.content != nil {
		d.content.Close()
	}
	if d.Cluster != nil {
		d.Cluster.Stop()
	}
}
