package compose

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// pantry is a source: what it holds is at hand or to be fetched; what it lacks fails.
type pantry struct {
	hand, far map[string]string
	mu        sync.Mutex
	fetched   []string
}

func (p *pantry) Now(url string) ([]byte, Digest, bool) {
	body, ok := p.hand[url]
	return []byte(body), sha256.Sum256([]byte(body)), ok
}

func (p *pantry) Fetch(_ context.Context, url string) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.fetched = append(p.fetched, url)
	if body, ok := p.far[url]; ok {
		return []byte(body), nil
	}
	return nil, errors.New("there is none")
}

var ingrid = &Visitor{Host: "www.ostrel.example", Query: "date=2026-05-17&q=%3Cb%3E", AcceptLanguage: "nb, en;q=0.8", Cookie: func(name string) (string, bool) {
	value, ok := map[string]string{"session": "ingrid", "evil": `"><script>`, "age": "9"}[name]
	return value, ok
}}

// composed composes for ingrid, the streamed way and, when all is at hand, the whole way too.
func composed(t require.TestingT, skeleton string, source Source) (string, error) {
	page, err := Parse([]byte(skeleton))
	require.NoError(t, err, skeleton)
	if page == nil {
		return skeleton, nil
	}
	c := page.Begin(context.Background(), ingrid, source, sha256.Sum256([]byte(skeleton)), parsing())
	defer c.Wait()
	if err := c.Required(); err != nil {
		return "", err
	}
	var b strings.Builder
	require.NoError(t, c.Write(ingrid, func(more []byte) error { b.Write(more); return nil }, func() {}))
	if c.Ready() {
		body, err := c.Body()
		require.NoError(t, err)
		require.Equal(t, b.String(), string(body), "both ways write the same")
	}
	return b.String(), nil
}

func TestMarks(t *testing.T) {
	source := &pantry{hand: map[string]string{"/a": "A", "/who?name=ingrid": "Hello ingrid", "/2026-05-17": "today"}, far: map[string]string{"/b": "B", "/c": "C"}}
	for name, row := range map[string][2]string{
		"no marks":                      {"<p>plain</p>", "<p>plain</p>"},
		"includes at hand and far":      {`1<esi:include src="/a"/>2<esi:include src="/b" />3`, "1A2B3"},
		"written as a pair":             {`<esi:include src='/a'></esi:include>!`, "A!"},
		"what stands for it":            {`<esi:include src="/gone" alt="/b"/>`, "B"},
		"left out when it fails":        {`1<esi:include src="/gone" onerror="continue"/>2`, "12"},
		"removed, and comments":         {`1<esi:remove><a href="/x">no edge</a></esi:remove>2<esi:comment text="x"/>3`, "123"},
		"hidden from other readers":     {`1<!--esi <esi:include src="/a"/>-->2<!-- kept -->`, "1 A2<!-- kept -->"},
		"hidden around marks":           {`<!--esi <esi:choose><esi:when test="1==1">x</esi:when></esi:choose> -->`, " x "},
		"an attempt that works":         {`<esi:try><esi:attempt>1<esi:include src="/b"/></esi:attempt><esi:except>no</esi:except></esi:try>`, "1B"},
		"an attempt that fails":         {`<esi:try> <esi:attempt>1<esi:include src="/gone"/></esi:attempt> <esi:except>no <esi:include src="/c"/></esi:except></esi:try>`, "no C"},
		"an attempt within an attempt":  {`<esi:try><esi:attempt>[<esi:try><esi:attempt><esi:include src="/gone"/></esi:attempt><esi:except>inner</esi:except></esi:try>]</esi:attempt><esi:except>outer</esi:except></esi:try>`, "[inner]"},
		"both branches fail":            {`1<esi:try><esi:attempt><esi:include src="/gone"/></esi:attempt><esi:except><esi:include src="/gone"/></esi:except></esi:try>2`, "12"},
		"a choice":                      {`<esi:choose><esi:when test="$(HTTP_COOKIE{session})=='calum'">c</esi:when><esi:when test="$(HTTP_COOKIE{session})=='ingrid'">i</esi:when><esi:otherwise>o</esi:otherwise></esi:choose>`, "i"},
		"otherwise":                     {`<esi:choose><esi:when test="$(HTTP_COOKIE{none})">c</esi:when><esi:otherwise>o</esi:otherwise></esi:choose>`, "o"},
		"only the branch is asked for":  {`<esi:choose><esi:when test="1==2"><esi:include src="/gone"/></esi:when></esi:choose>x`, "x"},
		"variables in a URL":            {`<esi:include src="/who?name=$(HTTP_COOKIE{session})"/>`, "Hello ingrid"},
		"a variable of the query":       {`<esi:include src="/$(QUERY_STRING{date})"/>`, "today"},
		"a variable in text":            {`<esi:vars>$(HTTP_HOST) $(HTTP_COOKIE{none}|'nobody') $(HTTP_ACCEPT_LANGUAGE{nb})</esi:vars>`, "www.ostrel.example nobody true"},
		"text of visitors is escaped":   {`<esi:vars>$(HTTP_COOKIE{evil})|$(QUERY_STRING{q})</esi:vars>`, "&#34;&gt;&lt;script&gt;|&lt;b&gt;"},
		"no variables outside vars":     {`$(HTTP_HOST)<esi:comment text=""/>`, "$(HTTP_HOST)"},
		"an escaped mark is only text":  {`<p>&lt;esi:include src="/a"/&gt;</p><esi:include src="/a"/>`, `<p>&lt;esi:include src="/a"/&gt;</p>A`},
		"entities in an attribute":      {`<esi:choose><esi:when test="1 &lt; 2 &amp; 2 &gt; 1">yes</esi:when></esi:choose>`, "yes"},
		"a comment of another language": {`<!--esioteric--><esi:comment text=""/>`, "<!--esioteric-->"},
	} {
		got, err := composed(t, row[0], source)
		assert.NoError(t, err, name)
		assert.Equal(t, row[1], got, name)
	}
	_, err := composed(t, `1<esi:include src="/gone"/>2`, source)
	assert.ErrorContains(t, err, "/gone", "an include without which there is no page")
}

func TestTests(t *testing.T) {
	for test, holds := range map[string]bool{
		`1 == 1`: true, `1 != 1`: false, `2 < 10`: true, `'2' < '10'`: true, `'b' > 'a'`: true, `1.0 == 1`: true, `3 >= 3 & 3 <= 3`: true,
		`!(1==2)`: true, `1==2 | 1==1`: true, `1==1 && 1==2`: false, `1==2 || 2==2`: true, `$(HTTP_COOKIE{age}) > 8`: true,
		`$(HTTP_ACCEPT_LANGUAGE{en})`: true, `$(HTTP_ACCEPT_LANGUAGE{gd})`: false, `!$(HTTP_COOKIE{none})`: true, `$(QUERY_STRING) == 'x'`: false,
		`(1==1 | 1==2) & 1==2`: false, `$(HTTP_COOKIE{none}|'x)') == 'x)'`: true,
		`'nan' == 7`: false, `'NaN' != 7`: true, `'inf' > 7`: true, `'0x7' == 7`: false, `'7e0' == 7`: false, `'1_0' == 10`: false, `'7.0' == 7`: true, `'-1' < 0`: true,
	} {
		e, err := parseExpression(test)
		if assert.NoError(t, err, test) {
			assert.Equal(t, holds, e.holds(ingrid), test)
		}
	}
	for _, bad := range []string{``, `1 ==`, `(1==1`, `1==1)`, `$(NO_SUCH)`, `$(HTTP_COOKIE)`, `$(HTTP_HOST{x})`, `$(HTTP_COOKIE{x)`, `'open`, `a == b`, strings.Repeat("(", 99) + "1" + strings.Repeat(")", 99)} {
		_, err := parseExpression(bad)
		assert.Error(t, err, bad)
	}
}

func TestMistakesInMarksSayWhere(t *testing.T) {
	for skeleton, says := range map[string]string{
		"a\nb<esi:include/>":                                       `line 2, column 2: <esi:include> says no src`,
		`<esi:include src="/a">`:                                   `ends in />`,
		`<esi:include src="/a" onerror="ignore"/>`:                 `"continue"`,
		`<esi:include src=/a/>`:                                    `in quotes`,
		`<esi:include src="/a`:                                     `does not end`,
		`<esi:include src="/$(COOKIE)"/>`:                          `there is no variable $(COOKIE)`,
		`<esi:inklude src="/a"/>`:                                  `there is no <esi:inklude>`,
		`<esi:try><esi:attempt>x</esi:attempt></esi:try>`:          `one <esi:except>`,
		`<esi:try>x</esi:try>`:                                     `only marks`,
		`<esi:choose><esi:when test="(">x</esi:when></esi:choose>`: `missing`,
		`<esi:choose></esi:choose>`:                                `no <esi:when>`,
		`<esi:vars>$(COOKIE)</esi:vars>`:                           `there is no variable`,
		`<esi:vars>x`:                                              `no end tag`,
		`<esi:remove></esi:remove>x</esi:vars>`:                    `nothing that began`,
		`<esi:when test="1">x</esi:when>`:                          `belongs into <esi:choose>`,
		`<!--esi x`:                                                `no end -->`,
		`<esi:remove>x`:                                            `no end tag`,
		strings.Repeat("<esi:vars>", 99):                           `deep`,
		strings.Repeat(`<esi:comment text=""/>`, MaxMarks+1):       `more than 1000 marks`,
	} {
		_, err := Parse([]byte(skeleton))
		assert.ErrorContains(t, err, says, skeleton[:min(len(skeleton), 60)])
	}
}

// TestPromise6APageIsBounded: in what it takes to parse, and in what it holds, however its
// marks and its visitor's fields are made.
func TestPromise6APageIsBounded(t *testing.T) {
	began := time.Now()
	for _, hostile := range []string{
		strings.Repeat("<!--esi ", 500_000) + "-->",
		"<!--esi -->" + strings.Repeat("-", 1<<20),
		strings.Repeat("<!--esi -->", 100_000),
		"<esi:comment/>" + strings.Repeat("<!--esi", 500_000),
		strings.Repeat("<esi:include ", 100_000),
		"<esi:vars>" + strings.Repeat("$(", 500_000) + "</esi:vars>",
		"<esi:vars>" + strings.Repeat("$(HTTP_HOST|'", 100_000) + "</esi:vars>",
		strings.Repeat(`<esi:remove>`, 100_000) + "</esi:remove>",
	} {
		_, _ = Parse([]byte(hostile))
	}
	assert.Less(t, time.Since(began), 2*time.Second, "it took 25 s once")

	long := strings.Repeat("x", 60_000)
	who := &Visitor{Query: "q=" + long, Referer: long, Cookie: func(string) (string, bool) { return long, true }}
	for _, variable := range []string{"$(HTTP_COOKIE{a})", "$(QUERY_STRING{q})", "$(HTTP_REFERER)"} {
		for text, want := range map[string]error{
			"<esi:vars>" + strings.Repeat(variable, 20_000) + "</esi:vars>":                                                                                                    ErrTooLarge,
			strings.Repeat(`<esi:include src="/`+strings.Repeat(variable, 100)+`"/>`, 200):                                                                                     ErrLongURL,
			"<esi:try><esi:attempt><esi:include src=\"/gone\"/></esi:attempt><esi:except><esi:vars>" + strings.Repeat(variable, 20_000) + "</esi:vars></esi:except></esi:try>": ErrTooLarge,
		} {
			page, err := Parse([]byte(text))
			require.NoError(t, err)
			held := int64(0)
			budget := NewBudget(func(more int64) bool { held += more; return true })
			c := page.Begin(context.Background(), who, &pantry{}, Digest{}, budget)
			err = c.Required()
			if err == nil {
				err = c.Write(who, func([]byte) error { return nil }, func() {})
			}
			c.Wait()
			assert.ErrorIs(t, err, want)
			assert.LessOrEqual(t, held, int64(MaxSize))
			assert.Equal(t, held, budget.End())
		}
	}
	page, err := Parse([]byte("<esi:vars>$(HTTP_REFERER)$(HTTP_REFERER)</esi:vars>"))
	require.NoError(t, err)
	assert.ErrorIs(t, page.Begin(context.Background(), who, &pantry{}, Digest{}, NewBudget(func(int64) bool { return false })).Required(), ErrNoRoom)
}

// TestBranchesAreToldApart: what a validator covers names the branch, of however many.
func TestBranchesAreToldApart(t *testing.T) {
	var b strings.Builder
	for i := range 300 {
		fmt.Fprintf(&b, `<esi:when test="$(QUERY_STRING)=='%d'">branch %d</esi:when>`, i, i)
	}
	page, err := Parse([]byte("<esi:choose>" + b.String() + "</esi:choose>"))
	require.NoError(t, err)
	seen := map[Digest]bool{}
	for i := range 300 {
		c := page.Begin(context.Background(), &Visitor{Query: fmt.Sprint(i)}, &pantry{}, Digest{}, parsing())
		seen[c.Digest()] = true
	}
	assert.Len(t, seen, 300)
}

func TestLimits(t *testing.T) {
	many, err := composed(t, strings.Repeat(`<esi:include src="/a" onerror="continue"/>`, MaxIncludes+10), &pantry{hand: map[string]string{"/a": "A"}})
	assert.NoError(t, err)
	assert.Len(t, many, MaxIncludes, "the includes beyond the limit are left out where that is allowed")
	page, err := Parse([]byte(strings.Repeat(`<esi:include src="/a"/>`, 64)))
	require.NoError(t, err)
	c := page.Begin(context.Background(), ingrid, &pantry{hand: map[string]string{"/a": strings.Repeat("x", 1<<20)}}, Digest{}, parsing())
	_, err = c.Body()
	assert.ErrorIs(t, err, ErrTooLarge)
	assert.ErrorIs(t, c.Write(ingrid, func([]byte) error { return nil }, func() {}), ErrTooLarge)
}

// TestDigests: the validator of a page changes with all that its content hangs on.
func TestDigests(t *testing.T) {
	digest := func(skeleton string, hand map[string]string, who *Visitor) Digest {
		page, err := Parse([]byte(skeleton))
		require.NoError(t, err)
		c := page.Begin(context.Background(), who, &pantry{hand: hand}, sha256.Sum256([]byte(skeleton)), parsing())
		require.True(t, c.Ready())
		return c.Digest()
	}
	const skeleton = `<esi:include src="/a"/><esi:choose><esi:when test="$(HTTP_COOKIE{session})">in</esi:when><esi:otherwise>out</esi:otherwise></esi:choose><esi:vars>$(HTTP_HOST)</esi:vars>`
	base := digest(skeleton, map[string]string{"/a": "1"}, ingrid)
	assert.Equal(t, base, digest(skeleton, map[string]string{"/a": "1"}, ingrid))
	assert.NotEqual(t, base, digest(skeleton, map[string]string{"/a": "2"}, ingrid), "another include")
	assert.NotEqual(t, base, digest(skeleton+" ", map[string]string{"/a": "1"}, ingrid), "another skeleton")
	assert.NotEqual(t, base, digest(skeleton, map[string]string{"/a": "1"}, &Visitor{Host: ingrid.Host}), "another branch")
	other := *ingrid
	other.Host = "ostrel.example"
	assert.NotEqual(t, base, digest(skeleton, map[string]string{"/a": "1"}, &other), "another variable")
}

// plant draws a skeleton of any nesting, with what it must become; fails says that it cannot
// become anything. Includes named /gone… are not to be had.
func plant(t *rapid.T, source *pantry, depth int) (skeleton, becomes string, fails bool) {
	for range rapid.IntRange(0, 4).Draw(t, "parts") {
		switch kind := rapid.IntRange(0, 7).Draw(t, "kind"); {
		case kind <= 1:
			text := rapid.SampledFrom([]string{"text", "<p>", "-->", "a-b", "<!-- c", "é"}).Draw(t, "text")
			skeleton, becomes = skeleton+text, becomes+text
		case kind <= 4:
			url := fmt.Sprintf("/%s%d", rapid.SampledFrom([]string{"hand", "far", "gone"}).Draw(t, "where"), rapid.IntRange(0, 3).Draw(t, "which"))
			body := "[" + url + "]"
			lacks := strings.HasPrefix(url, "/gone")
			switch {
			case strings.HasPrefix(url, "/hand"):
				source.hand[url] = body
			case !lacks:
				source.far[url] = body
			}
			attrs := ""
			if rapid.Bool().Draw(t, "optional") {
				attrs = ` onerror="continue"`
			} else if lacks {
				fails = true
			}
			if !lacks {
				becomes += body
			}
			skeleton += `<esi:include src="` + url + `"` + attrs + `/>`
		case depth > 3:
		case kind == 5:
			attempt, attempted, failed := plant(t, source, depth+1)
			except, excepted, failedToo := plant(t, source, depth+1)
			skeleton += "<esi:try><esi:attempt>" + attempt + "</esi:attempt><esi:except>" + except + "</esi:except></esi:try>"
			switch {
			case !failed:
				becomes += attempted
			case !failedToo:
				becomes += excepted
			}
		case kind == 6:
			when, whenBecomes, whenFails := plant(t, source, depth+1)
			otherwise, otherwiseBecomes, otherwiseFails := plant(t, source, depth+1)
			test := rapid.Bool().Draw(t, "test")
			skeleton += fmt.Sprintf(`<esi:choose><esi:when test="%d==1">%s</esi:when><esi:otherwise>%s</esi:otherwise></esi:choose>`, map[bool]int{true: 1}[test], when, otherwise)
			if !test {
				whenBecomes, whenFails = otherwiseBecomes, otherwiseFails
			}
			becomes += whenBecomes
			fails = fails || whenFails
		default:
			inside, _, _ := plant(t, &pantry{hand: map[string]string{}, far: map[string]string{}}, 9)
			skeleton += "<esi:remove>" + inside + "</esi:remove>"
		}
	}
	return skeleton, becomes, fails
}

// TestNeverATornPage: however marks stand in one another, whatever fails, a page becomes what
// it must, or nothing at all.
func TestNeverATornPage(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		source := &pantry{hand: map[string]string{}, far: map[string]string{}}
		skeleton, becomes, fails := plant(t, source, 0)
		got, err := composed(t, skeleton, source)
		// An attempt that fails at once is given up where it stands, so that what is only
		// required within its other branch may then fail the page.
		if err != nil {
			assert.Empty(t, got)
			assert.True(t, fails || strings.Contains(skeleton, "<esi:except>"), "%s: %v", skeleton, err)
			return
		}
		assert.False(t, fails, skeleton)
		assert.Equal(t, becomes, got, skeleton)
	})
}

// FuzzParse: no skeleton makes the parser panic, and what parses can be composed.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{`<esi:include src="/a"/>`, `<esi:try><esi:attempt>x</esi:attempt><esi:except>y</esi:except></esi:try>`, `<esi:choose><esi:when test="$(HTTP_COOKIE{a})=='b'">x</esi:when></esi:choose>`,
		`<!--esi <esi:vars>$(QUERY_STRING{a|'b'})</esi:vars> -->`, `<esi:`, `</esi:`, `<!--esi-->`, `<esi:remove></esi:remove>`} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		page, err := Parse(body)
		if err != nil || page == nil {
			return
		}
		c := page.Begin(context.Background(), ingrid, &pantry{}, Digest{}, parsing())
		defer c.Wait()
		_ = c.Required()
		_ = c.Write(ingrid, func([]byte) error { return nil }, func() {})
	})
}
