package edge

import (
	"net/http"
	"slices"
	"strings"

	"gerastic/internal/coding"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/policy"
)

// compressing compresses what only passes, on routes with compress: all, as it comes. That is off
// elsewhere: the length of what is compressed tells of secrets that stand beside what a visitor may
// choose.
type compressing struct {
	http.ResponseWriter
	exchange *exchange
	coding   httprules.Coding
	packer   *coding.Writer // nil: as it is
	wrote    bool
}

// compresses puts the visitor's writer behind a compressing one, if the route says so and they take
// one. finish ends what it has begun; it must be called when all was written, and only then.
func (x *exchange) compresses(route *policy.Route) (finish func()) {
	if route == nil || route.Compress != policy.CompressAll || x.depth > 0 || x.req.Header.Has("Range") || x.r.Method == http.MethodHead {
		return func() {}
	}
	c := &compressing{ResponseWriter: x.w, exchange: x, coding: httprules.QuickCoding(x.req.Header)}
	x.w, x.packs = c, c
	return func() {
		if c.packer != nil {
			_ = c.packer.Close() // whoever left gets nothing
		}
	}
}

// free gives the compressor back, however the answer ended.
func (c *compressing) free() {
	if c != nil && c.packer != nil {
		c.packer.Free()
		c.packer = nil
	}
}

// WriteHeader implements http.ResponseWriter.
func (c *compressing) WriteHeader(status int) {
	if status >= 200 && !c.wrote {
		c.wrote = true
		c.begin(status)
	}
	c.ResponseWriter.WriteHeader(status)
}

// begin changes the head of an answer that would gain.
func (c *compressing) begin(status int) {
	h := c.Header()
	header := httprules.Header(h)
	length := h.Get("Content-Length")
	if length == "" {
		length = "unknown"
	}
	short := len(length) < 3 || len(length) == 3 && length < "512"
	if status < 200 || status == http.StatusNoContent || status == http.StatusPartialContent || status == http.StatusNotModified || short ||
		!httprules.MayCompress(http.StatusOK, header, httprules.ParseResponseDirectives(header), 512) {
		return
	}
	if !varies(h["Vary"]) {
		h["Vary"] = append(slices.Clone(h["Vary"]), "Accept-Encoding")
	}
	if c.coding == httprules.Identity {
		return
	}
	h["Content-Encoding"] = []string{string(c.coding)}
	for _, name := range []string{"Content-Length", "Accept-Ranges", "Content-Md5", "Content-Digest", "Repr-Digest", "Digest"} {
		delete(h, name)
	}
	if etag := h.Get("Etag"); etag != "" && !strings.HasPrefix(etag, "W/") {
		h["Etag"] = []string{"W/" + etag} // so that the origin knows it again, and nobody takes it for these bytes
	}
	c.packer = c.exchange.edge.coder.NewWriter(c.coding, c.ResponseWriter)
}

// varies reports whether Vary names Accept-Encoding, or everything.
func varies(lines []string) bool {
	for _, line := range lines {
		for name := range strings.SplitSeq(line, ",") {
			if name = strings.TrimSpace(name); name == "*" || strings.EqualFold(name, "Accept-Encoding") {
				return true
			}
		}
	}
	return false
}

// Write implements io.Writer.
func (c *compressing) Write(p []byte) (int, error) {
	if !c.wrote {
		c.WriteHeader(http.StatusOK)
	}
	if c.packer == nil {
		return c.ResponseWriter.Write(p)
	}
	return c.packer.Write(p)
}

// FlushError sends what there is, as http.ResponseController asks for it.
func (c *compressing) FlushError() error {
	if c.packer != nil {
		if err := c.packer.Flush(); err != nil {
			return err
		}
	}
	return http.NewResponseController(c.ResponseWriter).Flush()
}

// Unwrap lets the standard library reach deadlines and hijacking.
func (c *compressing) Unwrap() http.ResponseWriter { return c.ResponseWriter }
