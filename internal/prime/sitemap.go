package prime

import (
	"bytes"
	"compress/gzip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

const (
	// mostSitemap is how large a sitemap may be, unpacked, and mostSitemaps how many an index may
	// name (sitemaps.org, protocol 0.9).
	mostSitemap  = 50 << 20
	mostSitemaps = 1000
)

// Sitemap reads a sitemap of protocol 0.9, perhaps packed with gzip: the URLs in it, or, if it is
// an index, the sitemaps.
func Sitemap(text []byte) (urls, sitemaps []string, err error) {
	if bytes.HasPrefix(text, []byte{0x1f, 0x8b}) {
		unpacked, err := gzip.NewReader(bytes.NewReader(text))
		if err == nil {
			text, err = io.ReadAll(io.LimitReader(unpacked, mostSitemap+1))
		}
		if err != nil {
			return nil, nil, fmt.Errorf("the sitemap cannot be unpacked: %w", err)
		}
	}
	if len(text) > mostSitemap {
		return nil, nil, errors.New("the sitemap is larger than 50 MiB, which is the most that the protocol allows")
	}
	var doc struct {
		XMLName  xml.Name
		URLs     []location `xml:"url"`
		Sitemaps []location `xml:"sitemap"`
	}
	if err := xml.Unmarshal(text, &doc); err != nil {
		return nil, nil, fmt.Errorf("the sitemap is not XML: %w", err)
	}
	if name := doc.XMLName.Local; name != "urlset" && name != "sitemapindex" {
		return nil, nil, fmt.Errorf("the document is a <%s>; a sitemap is a <urlset>, its index a <sitemapindex>", name)
	}
	return locations(doc.URLs), locations(doc.Sitemaps), nil
}

type location struct {
	Loc string `xml:"loc"`
}

func locations(all []location) (urls []string) {
	for _, l := range all {
		if loc := strings.TrimSpace(l.Loc); loc != "" {
			urls = append(urls, loc)
		}
	}
	return urls
}
