package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"
)

var attacks = []attack{
	{"(none)", func(ctx context.Context, _ *site) { <-ctx.Done() }},
	{"visitors leave event streams", leaveStreams},
	{"slow uploads", holding("POST /upload HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\nbegun", 200)},
	{"slow readers", holding("GET /private HTTP/1.1\r\nHost: x\r\n\r\n", 200)},
	{"closed HTTP/2 windows", closedWindows},
	{"bodies without end", holding("POST /ask HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{", 400)},
	{"unique pages, compressible", repeated(16, 0, func(ctx context.Context, s *site) {
		s.get(ctx, transport, fmt.Sprintf("/unique/%d", pageNumber.Add(1)))
	})},
	{"long keys, not stored", long("/long/x?q=%d%s")},
	{"long lines, short keys", long("/pages/junk/%d?junk=%s")},
	{"slow readers of what is stored", func(ctx context.Context, s *site) {
		for i := range 100 {
			if conn := dial(ctx, s.edge); conn != nil {
				_, _ = fmt.Fprintf(conn, "GET /large/%d HTTP/1.1\r\nHost: x\r\n\r\n", i)
			}
		}
		<-ctx.Done()
	}},
	{"malformed chunks", repeated(8, 0, func(ctx context.Context, s *site) {
		if conn := dial(ctx, s.edge); conn != nil {
			_, _ = io.WriteString(conn, "POST /upload HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\nnone\r\n")
			_ = conn.SetReadDeadline(time.Now().Add(time.Second))
			_, _ = io.Copy(io.Discard, conn)
			conn.Close()
		}
	})},
	{"a page of marks", composed("marks")},
	{"a page of large includes", composed("includes")},
	{"a page of long variables", composed("variables")},
	{"control: bodies without a token", control("POST /v1/changes HTTP/1.1\r\nHost: 127.0.0.1\r\nGerastic-Signature: x\r\nGerastic-Time: 1\r\nContent-Type: application/json\r\nContent-Length: 16000000\r\n\r\n", 60, 15<<20)},
	{"control: readers of events", control("GET /v1/events HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer "+adminToken+"\r\n\r\n", 200, 0)},
	{"control: a fill that is announced", control("PUT /v1/fragments/a?namespace=app HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer "+adminToken+"\r\nGerastic-Lease: none\r\nCache-Control: max-age=60\r\nContent-Length: 120000000\r\n\r\n", 4, 0)},
	{"control: lists that multiply", called("POST", "/v1/changes/try", func() string {
		list := "[" + strings.Repeat("1,", 2999) + "1]"
		return `{"kind":"item","op":"create","after":{"a":` + list + `,"b":` + list + `}}`
	}())},
	{"control: a deep rule file", called("PUT", "/v1/policy", `{"source":"`+strings.Repeat("[", 40_000)+`"}`)},
}

// holding opens connections that send so much and read nothing.
func holding(request string, connections int) func(context.Context, *site) {
	return func(ctx context.Context, s *site) {
		for range connections {
			if conn := dial(ctx, s.edge); conn != nil {
				_, _ = io.WriteString(conn, request)
			}
		}
		<-ctx.Done()
	}
}

// control does the same to the control side, with so many bytes of a body.
func control(request string, connections, body int) func(context.Context, *site) {
	return func(ctx context.Context, s *site) {
		var all sync.WaitGroup
		for range connections {
			conn := dial(ctx, s.control)
			if conn == nil {
				continue
			}
			all.Go(func() {
				_, _ = io.WriteString(conn, request)
				if body > 0 {
					_, _ = conn.Write(make([]byte, body))
					<-ctx.Done()
					return
				}
				_, _ = io.Copy(io.Discard, conn)
			})
		}
		all.Wait()
		<-ctx.Done()
	}
}

// called makes the same call to the control side again and again.
func called(method, path, body string) func(context.Context, *site) {
	return repeated(2, 500*time.Millisecond, func(ctx context.Context, s *site) {
		r, err := http.NewRequestWithContext(ctx, method, "http://"+s.control+path, strings.NewReader(body))
		if err != nil {
			return
		}
		r.Header.Set("Authorization", "Bearer "+adminToken)
		r.Header.Set("Content-Type", "application/json")
		if resp, err := transport.RoundTrip(r); err == nil {
			_, _ = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
		}
	})
}

// repeated does something again and again, by several at once, each of them so often at most.
func repeated(by int, every time.Duration, do func(context.Context, *site)) func(context.Context, *site) {
	return func(ctx context.Context, s *site) {
		var all sync.WaitGroup
		for range by {
			all.Go(func() {
				for ctx.Err() == nil {
					next := time.After(every)
					do(ctx, s)
					select {
					case <-next:
					case <-ctx.Done():
					}
				}
			})
		}
		all.Wait()
	}
}

// long asks for URLs of 60,000 bytes.
func long(path string) func(context.Context, *site) {
	junk := strings.Repeat("j", 60_000)
	return repeated(4, 4*time.Millisecond, func(ctx context.Context, s *site) {
		s.get(ctx, transport, fmt.Sprintf(path, pageNumber.Add(1), junk))
	})
}

// composed asks for a hostile page, with a long cookie, as two visitors.
func composed(name string) func(context.Context, *site) {
	return repeated(2, 500*time.Millisecond, func(ctx context.Context, s *site) {
		s.get(ctx, transport, "/composed/"+name, "Cookie: long="+strings.Repeat("x", 50_000))
	})
}

func leaveStreams(ctx context.Context, s *site) {
	for range 300 {
		if conn := dial(ctx, s.edge); conn != nil {
			_, _ = io.WriteString(conn, "GET /events HTTP/1.1\r\nHost: x\r\n\r\n")
			_ = conn.SetReadDeadline(time.Now().Add(time.Second))
			_, _ = conn.Read(make([]byte, 64))
			conn.Close()
		}
	}
	<-ctx.Done()
}

// closedWindows asks for a hundred pages on one connection, and gives none of them a window.
func closedWindows(ctx context.Context, s *site) {
	conn := dial(ctx, s.edge)
	if conn == nil {
		return
	}
	_, _ = io.WriteString(conn, "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"+frame(4, 0, 0, "\x00\x04\x00\x00\x00\x00"))
	for i := range 200 {
		path := fmt.Sprintf("/private/%d", i)
		_, _ = io.WriteString(conn, frame(1, 5, uint32(2*i+1), "\x82\x86\x04"+string(rune(len(path)))+path+"\x01\x01x"))
	}
	<-ctx.Done()
}

// frame is one of HTTP/2 (RFC 9113 §4.1).
func frame(kind, flags byte, stream uint32, payload string) string {
	head := binary.BigEndian.AppendUint32(nil, uint32(len(payload))<<8|uint32(kind))
	return string(binary.BigEndian.AppendUint32(append(head, flags), stream)) + payload
}
