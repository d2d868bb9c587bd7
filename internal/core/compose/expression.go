package compose

import (
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
)

// Visitor is what variables are taken from.
type Visitor struct {
	Host, Query, Referer, UserAgent string
	AcceptLanguage                  string
	Cookie                          func(name string) (value string, present bool)

	asked url.Values        // of the query, once something asked for it
	known map[string]string // values of variables with a key that something asked for
}

// variable is $(NAME), $(NAME{key}), or $(NAME|'otherwise').
type variable struct {
	name, key, otherwise string
	keyed                bool
}

// variables of ESI 1.0, and whether they may have a key. HTTP_USER_AGENT has none here: what
// a browser calls itself says nothing that a page should hang on.
var variables = map[string]bool{"HTTP_ACCEPT_LANGUAGE": true, "HTTP_COOKIE": true, "HTTP_HOST": false, "HTTP_REFERER": false, "HTTP_USER_AGENT": false, "QUERY_STRING": true}

// parseVariable reads one from its $; rest is what follows.
func parseVariable(s string) (v variable, rest string, err error) {
	if !strings.HasPrefix(s, "$(") {
		return v, s, errors.New("a variable is written $(NAME)")
	}
	inside, rest, ok := cutVariable(s[2:])
	if !ok {
		return v, s, errors.New("$( has no )")
	}
	inside, v.otherwise, _ = strings.Cut(inside, "|")
	v.otherwise = strings.Trim(v.otherwise, "'")
	v.name, v.key, v.keyed = strings.Cut(inside, "{")
	if v.keyed {
		if v.key, ok = strings.CutSuffix(v.key, "}"); !ok || v.key == "" {
			return v, s, fmt.Errorf("the key of $(%s) ends in }", v.name)
		}
	}
	mayKey, known := variables[v.name]
	switch {
	case !known:
		return v, s, fmt.Errorf("there is no variable $(%s); there are HTTP_ACCEPT_LANGUAGE, HTTP_COOKIE, HTTP_HOST, HTTP_REFERER, HTTP_USER_AGENT and QUERY_STRING", v.name)
	case v.keyed && !mayKey:
		return v, s, fmt.Errorf("$(%s) has no keys", v.name)
	case v.name == "HTTP_COOKIE" && !v.keyed:
		return v, s, errors.New("name the cookie: $(HTTP_COOKIE{NAME})")
	}
	return v, rest, nil
}

// cutVariable cuts at the ) that is not in quotes.
func cutVariable(s string) (inside, rest string, ok bool) {
	quoted := false
	for i := range len(s) {
		switch s[i] {
		case '\'':
			quoted = !quoted
		case ')':
			if !quoted {
				return s[:i], s[i+1:], true
			}
		}
	}
	return "", "", false
}

// of is the variable's value for a visitor.
func (v *variable) of(who *Visitor) string {
	value := ""
	switch v.name {
	case "HTTP_HOST":
		value = who.Host
	case "HTTP_REFERER":
		value = who.Referer
	case "HTTP_USER_AGENT":
		value = who.UserAgent
	case "QUERY_STRING":
		value = who.Query
	case "HTTP_ACCEPT_LANGUAGE":
		value = who.AcceptLanguage
	}
	if v.keyed {
		value = who.value(v.name, v.key)
	}
	if value == "" || v.otherwise != "" && value == "false" && v.name == "HTTP_ACCEPT_LANGUAGE" {
		return v.otherwise
	}
	return value
}

// value finds one of many, once: a page may ask for it a thousand times.
func (who *Visitor) value(name, key string) (value string) {
	asked := name + "{" + key
	if value, known := who.known[asked]; known {
		return value
	}
	switch name {
	case "HTTP_COOKIE":
		if who.Cookie != nil {
			value, _ = who.Cookie(key)
		}
	case "QUERY_STRING":
		if who.asked == nil {
			who.asked, _ = url.ParseQuery(who.Query)
		}
		value = who.asked.Get(key)
	case "HTTP_ACCEPT_LANGUAGE": // a list: is it on it?
		value = "false"
		for item := range strings.SplitSeq(who.AcceptLanguage, ",") {
			language, _, _ := strings.Cut(item, ";")
			if strings.EqualFold(strings.TrimSpace(language), key) {
				value = "true"
			}
		}
	}
	if who.known == nil {
		who.known = map[string]string{}
	}
	who.known[asked] = value
	return value
}

// destination is where a variable's value goes: it is written so that it stays one value there.
type destination uint8

const (
	inText destination = iota // of HTML
	inURL
)

// expand returns a text with its variables filled in. What they hold comes out of the budget
// piece by piece: a page may name one that a visitor made long a hundred thousand times.
func expand(text string, who *Visitor, where destination, budget *Budget) (b []byte, err error) {
	spend := func(s string) error {
		if err := budget.Spend(int64(len(s))); err != nil {
			return err
		}
		b = append(b, s...)
		return nil
	}
	for {
		i := strings.Index(text, "$(")
		if i < 0 {
			return b, spend(text)
		}
		if err := spend(text[:i]); err != nil {
			return b, err
		}
		v, rest, err := parseVariable(text[i:])
		if err != nil {
			return b, err
		}
		value := v.of(who)
		switch {
		case where == inText:
			value = htmlEscape.Replace(value)
		case v.name != "QUERY_STRING" || v.keyed: // a query is one already
			value = url.QueryEscape(value)
		}
		if err := spend(value); err != nil {
			return b, err
		}
		text = rest
	}
}

// expandURL is expand for a URL; most have no variables.
func expandURL(text string, who *Visitor, budget *Budget) (string, error) {
	if !strings.Contains(text, "$(") {
		return text, budget.Spend(int64(len(text)))
	}
	b, err := expand(text, who, inURL, budget)
	return string(b), err
}

var htmlEscape = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&#34;", "'", "&#39;")

// expression is the test of a when.
type expression interface{ holds(who *Visitor) bool }

type (
	both    struct{ left, right expression }
	either  struct{ left, right expression }
	not     struct{ of expression }
	compare struct {
		left, right operand
		operator    string // "" reports whether left is set and not "false"
	}
	operand struct {
		variable *variable
		literal  string
	}
)

func (e both) holds(who *Visitor) bool   { return e.left.holds(who) && e.right.holds(who) }
func (e either) holds(who *Visitor) bool { return e.left.holds(who) || e.right.holds(who) }
func (e not) holds(who *Visitor) bool    { return !e.of.holds(who) }

func (o *operand) of(who *Visitor) string {
	if o.variable != nil {
		return o.variable.of(who)
	}
	return o.literal
}

// holds compares as numbers where both sides are some, else as texts.
func (e compare) holds(who *Visitor) bool {
	left := e.left.of(who)
	if e.operator == "" {
		return left != "" && left != "false"
	}
	right := e.right.of(who)
	order := strings.Compare(left, right)
	l, isNumber := number(left)
	r, bothAre := number(right)
	if isNumber && bothAre {
		switch {
		case l < r:
			order = -1
		case l > r:
			order = 1
		default:
			order = 0
		}
	}
	switch e.operator {
	case "==":
		return order == 0
	case "!=":
		return order != 0
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	}
	return order >= 0
}

// number reads a decimal number, and nothing else that a computer might take for one.
func number(s string) (n float64, ok bool) {
	if s == "" || len(s) > 40 || strings.Trim(s, "0123456789.-") != "" {
		return 0, false
	}
	n, err := strconv.ParseFloat(s, 64)
	return n, err == nil
}

// parseExpression reads comparisons joined by & and |, negated by !, in brackets.
func parseExpression(s string) (expression, error) {
	p := &expressionParser{rest: s}
	e, err := p.either(0)
	if err == nil && p.peek() != "" {
		err = fmt.Errorf("%q follows where the test should end", p.rest)
	}
	return e, err
}

type expressionParser struct{ rest string }

func (p *expressionParser) peek() string {
	p.rest = strings.TrimLeft(p.rest, " \t\r\n")
	return p.rest
}

func (p *expressionParser) accept(s string) bool {
	if strings.HasPrefix(p.peek(), s) {
		p.rest = p.rest[len(s):]
		return true
	}
	return false
}

func (p *expressionParser) either(depth int) (expression, error) {
	left, err := p.both(depth)
	for err == nil && p.accept("|") {
		p.accept("|")
		var right expression
		right, err = p.both(depth)
		left = either{left, right}
	}
	return left, err
}

func (p *expressionParser) both(depth int) (expression, error) {
	left, err := p.term(depth)
	for err == nil && p.accept("&") {
		p.accept("&")
		var right expression
		right, err = p.term(depth)
		left = both{left, right}
	}
	return left, err
}

func (p *expressionParser) term(depth int) (expression, error) {
	if depth > MaxNesting {
		return nil, errors.New("brackets stand in one another too deeply")
	}
	switch {
	case strings.HasPrefix(p.peek(), "!") && !strings.HasPrefix(p.rest, "!="):
		p.accept("!")
		e, err := p.term(depth + 1)
		return not{e}, err
	case p.accept("("):
		e, err := p.either(depth + 1)
		if err == nil && !p.accept(")") {
			err = errors.New("( has no )")
		}
		return e, err
	}
	left, err := p.operand()
	if err != nil {
		return nil, err
	}
	for _, operator := range []string{"==", "!=", "<=", ">=", "<", ">"} {
		if p.accept(operator) {
			right, err := p.operand()
			return compare{left, right, operator}, err
		}
	}
	return compare{left: left}, nil
}

func (p *expressionParser) operand() (o operand, err error) {
	s := p.peek()
	switch {
	case s == "":
		return o, errors.New("something to compare is missing")
	case s[0] == '$':
		v, rest, err := parseVariable(s)
		p.rest = rest
		return operand{variable: &v}, err
	case s[0] == '\'':
		literal, rest, ok := strings.Cut(s[1:], "'")
		if !ok {
			return o, errors.New("' has no end")
		}
		p.rest = rest
		return operand{literal: literal}, nil
	}
	n := strings.IndexFunc(s, func(r rune) bool { return r != '.' && r != '-' && (r < '0' || r > '9') })
	if n < 0 {
		n = len(s)
	}
	if _, ok := number(s[:n]); !ok {
		return o, fmt.Errorf("%q is neither a variable, nor a number, nor a text in single quotes", s)
	}
	p.rest = s[n:]
	return operand{literal: s[:n]}, nil
}
