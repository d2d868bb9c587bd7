package demo

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
)

// charts is how many sea charts there are: together more than the demo's memory holds, and less than
// its disk.
const charts = 1000

// chart draws a sea chart: about 48 KiB, and always the same for its number.
func (s *Site) chart(w http.ResponseWriter, r *http.Request) {
	number, err := strconv.Atoi(strings.TrimSuffix(r.PathValue("chart"), ".png"))
	if err != nil || number < 1 || number > charts {
		s.missing(w, err, "chart")
		return
	}
	s.cost(r.Context(), 30)
	s.Renders.Add(1)
	w.Header().Set("Content-Type", "image/png")
	_, _ = w.Write(drawChart(number))
}

// drawChart draws depths that rise from the south-west, and the noise of an old scan.
func drawChart(number int) []byte {
	const width, height = 128, 128
	random := rand.New(rand.NewPCG(uint64(number), 3))
	drawn := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			depth := uint8((x + height - y + number*7) % 256)
			drawn.SetRGBA(x, y, color.RGBA{depth/2 + uint8(random.IntN(64)), depth/4*3 + uint8(random.IntN(64)), 128 + uint8(random.IntN(128)), 255})
		}
	}
	var out bytes.Buffer
	_ = png.Encode(&out, drawn) // a buffer takes all
	return out.Bytes()
}

// sitemap lists what there is for search engines, and for whoever fills a cache before visitors come.
func (s *Site) sitemap(w http.ResponseWriter, r *http.Request) {
	type location struct {
		Loc string `xml:"loc"`
	}
	list := struct {
		XMLName xml.Name   `xml:"http://www.sitemaps.org/schemas/sitemap/0.9 urlset"`
		URLs    []location `xml:"url"`
	}{}
	add := func(path string) {
		list.URLs = append(list.URLs, location{"http://" + r.Host + path})
	}
	add("/")
	for _, port := range ports {
		add("/ports/" + port.Slug)
		add("/ports/" + port.Slug + "/departures")
	}
	for i := range vessels {
		add(fmt.Sprintf("/vessels/%d", i+1))
	}
	for i := range charts / 4 {
		add(fmt.Sprintf("/charts/%d.png", i+1))
	}
	w.Header().Set("Content-Type", "application/xml")
	_, _ = w.Write([]byte(xml.Header))
	_ = xml.NewEncoder(w).Encode(list) // the visitor may have left
}
