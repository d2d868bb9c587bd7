package policy

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// defaultCompare is for the routes whose life the policy states.
var defaultCompare = Compare{Share: 0.001, PerSecond: 1}

func (d *document) compare(n ast.Node, c *Compare) {
	c.PerSecond = 5
	if s, isText := n.(ast.ScalarNode); isText && fmt.Sprint(s.GetValue()) == "off" {
		*c = Compare{}
		return
	}
	if _, isMap := n.(ast.MapNode); !isMap {
		d.share(n, "compare", &c.Share)
		return
	}
	c.Share = defaultCompare.Share
	d.mapping(n, "compare",
		field{name: "share", read: func(n ast.Node) { d.share(n, "compare.share", &c.Share) }},
		field{name: "per_second", read: func(n ast.Node) {
			most := 0
			d.integer(n, "compare.per_second", 1000, &most)
			c.PerSecond = float64(most)
		}},
		field{name: "ignore", read: func(n ast.Node) {
			d.strings(n, "compare.ignore", func(n ast.Node, s string) {
				re, err := regexp.Compile(s)
				if err != nil {
					d.fail(n, "compare.ignore: %q is not a pattern: %v", s, err)
					return
				}
				c.Ignore = append(c.Ignore, re)
			})
		}},
	)
}

func (d *document) share(n ast.Node, where string, into *float64) {
	s, ok := d.text(n, where)
	if !ok {
		return
	}
	number, isPercent := strings.CutSuffix(s, "%")
	v, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !isPercent || err != nil || v < 0 || v > 100 {
		d.fail(n, "%s is a share in per cent, such as 0.1%%", where)
		return
	}
	*into = v / 100
}
