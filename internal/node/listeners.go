package node

import (
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"time"

	"gerastic/internal/gate"
)

// Bounds of the listeners.
const (
	// connectionBytes is what a visitor's connection may take of the node, buffers and all:
	// there are as many as that allows for --memory.
	connectionBytes = 64 << 10
	minConnections  = 64
	// controlConnections is how many the control side takes.
	controlConnections = 1024
	// streamsPerConnection is how many requests may share a connection (HTTP/2).
	streamsPerConnection = 100
	headerTime           = 10 * time.Second
	idleTime             = 2 * time.Minute
)

// Connections is how many visitors' connections there may be at a time.
func (s *Settings) Connections() int {
	return int(max(minConnections, s.Memory/connectionBytes))
}

// visitors bounds the edge's listener.
func (s *Settings) visitors() gate.Options {
	return gate.Options{Connections: s.Connections(), PerAddress: s.PerAddress, Exempt: func(a netip.Addr) bool { return s.trusted.Holds(a) }}
}

func bind(flag, address string, o gate.Options) (*gate.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		if inner := errors.Unwrap(err); inner != nil {
			err = inner // without the address, which is said already
		}
		return nil, fmt.Errorf("%s %s cannot be listened on; is another node running there? (%w)", flag, address, err)
	}
	return gate.New(l, o), nil
}

// serve starts both listeners. Limits keep a slow or hostile visitor from holding on
// to memory and connections.
func (n *Node) serve() {
	quiet := slog.NewLogLogger(n.log.Handler(), slog.LevelDebug)
	n.edgeServer = &http.Server{Handler: n.edge, ConnState: n.edgeListener.ConnState, ReadHeaderTimeout: headerTime, IdleTimeout: idleTime, MaxHeaderBytes: 64 << 10, ErrorLog: quiet, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: streamsPerConnection}}
	n.controlServer = &http.Server{Handler: n.control, ConnState: n.controlListener.ConnState, ReadHeaderTimeout: headerTime, IdleTimeout: idleTime, MaxHeaderBytes: 64 << 10, ErrorLog: quiet}
	// HTTP/2 by TLS where there is a certificate; else by prior knowledge, beside HTTP/1.1.
	var protocols http.Protocols
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	protocols.SetUnencryptedHTTP2(n.certificates == nil)
	n.edgeServer.Protocols = &protocols
	var edgeListener net.Listener = n.edgeListener
	if n.certificates != nil {
		edgeListener = tls.NewListener(n.edgeListener, &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: n.certificates.get})
		n.edgeServer.TLSConfig = &tls.Config{NextProtos: []string{"h2", "http/1.1"}}
	}
	for server, listener := range map[*http.Server]net.Listener{n.edgeServer: edgeListener, n.controlServer: n.controlListener} {
		n.tasks.Go(func() {
			if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
				n.failed <- err
			}
		})
	}
}

// Listeners are the counters of the edge's connections and of control's.
func (n *Node) Listeners() (edge, control gate.Figures) {
	return n.edgeListener.Figures(), n.controlListener.Figures()
}
