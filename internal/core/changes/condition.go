package changes

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"
)

// Condition is when a rule counts: comparisons of fields and constants, joined by and,
// or, not and parentheses:
//
//	after.status = 'cancelled' and before.status != 'cancelled'
//
// A field is before.NAME, after.NAME or op. Texts stand in single quotes (” is a quote
// in a text); numbers, true, false and null as they are. Numbers are compared as
// numbers, texts byte by byte; what is of different kinds is not equal, and neither
// less nor greater.
//
// Where a value is not known (an update that came without its old values, a field that
// nobody sent) a comparison with it is neither true nor false, and a condition that hangs on it
// counts as met: when in doubt, purge.
type Condition struct {
	text string
	root node
}

// String is the condition as written.
func (c *Condition) String() string { return c.text }

// Met reports whether the condition holds, or may hold.
func (c *Condition) Met(change *Change) bool { return c.root.eval(change) != no }

// truth has three values, in their order: and takes the least, or the greatest.
type truth int8

const (
	no truth = iota
	maybe
	yes
)

type node interface{ eval(*Change) truth }

type (
	both       struct{ a, b node }
	either     struct{ a, b node }
	inverse    struct{ a node }
	comparison struct {
		op   string
		a, b operand
	}
)

func (n both) eval(c *Change) truth    { return min(n.a.eval(c), n.b.eval(c)) }
func (n either) eval(c *Change) truth  { return max(n.a.eval(c), n.b.eval(c)) }
func (n inverse) eval(c *Change) truth { return yes - n.a.eval(c) }

// operand is a constant, or a field when side is set.
type operand struct {
	side     string // before, after or op
	path     string
	constant any // string, *big.Rat, bool or nil
}

func (o operand) value(c *Change) (v any, known bool) {
	switch o.side {
	case "":
		return o.constant, true
	case "op":
		return string(c.Op), c.Op != Unknown
	}
	f, before := c.After, o.side == "before"
	if before {
		f = c.Before
	}
	if !c.known(before) {
		return nil, false
	}
	if f == nil {
		return nil, true // there was nothing, or is nothing any more
	}
	v, has := f.at(o.path)
	switch v := v.(type) {
	case nil:
		return nil, has
	case string, bool:
		return v, true
	default:
		if s, ok := text(v); ok {
			if r := number(s); r != nil {
				return r, true
			}
		}
		return fmt.Sprint(v), true // lists and objects equal no constant
	}
}

func (n comparison) eval(c *Change) truth {
	a, knownA := n.a.value(c)
	b, knownB := n.b.value(c)
	if !knownA || !knownB {
		return maybe
	}
	order, comparable := compare(a, b)
	met := false
	switch n.op {
	case "=":
		met = comparable && order == 0
	case "!=":
		met = !comparable || order != 0
	case "<":
		met = comparable && order < 0 && a != nil
	case "<=":
		met = comparable && order <= 0 && a != nil
	case ">":
		met = comparable && order > 0 && a != nil
	case ">=":
		met = comparable && order >= 0 && a != nil
	}
	if met {
		return yes
	}
	return no
}

// number reads a JSON number exactly; one with an exponent, which might stand for
// thousands of digits, as a float. nil if it is not one.
func number(s string) *big.Rat {
	if f, err := strconv.ParseFloat(s, 64); err != nil || strings.ContainsAny(s, "xX_pPiInN") {
		return nil
	} else if strings.ContainsAny(s, "eE") {
		return new(big.Rat).SetFloat64(f)
	}
	r, _ := new(big.Rat).SetString(s)
	return r
}

// compare orders two values of one kind.
func compare(a, b any) (order int, comparable bool) {
	switch a := a.(type) {
	case nil:
		return 0, b == nil
	case string:
		b, ok := b.(string)
		return strings.Compare(a, b), ok
	case *big.Rat:
		if b, ok := b.(*big.Rat); ok {
			return a.Cmp(b), true
		}
	case bool:
		if b, ok := b.(bool); ok {
			if a == b {
				return 0, true
			}
			return 1, true
		}
	}
	return 0, false
}

// ParseCondition reads a condition.
func ParseCondition(text string) (*Condition, error) {
	p := &parser{rest: text}
	p.next()
	root, err := p.either()
	if err == nil && p.token != "" {
		err = p.expected("and, or, or the end")
	}
	if err != nil {
		return nil, fmt.Errorf("%q: %w", text, err)
	}
	return &Condition{text: text, root: root}, nil
}

// parser reads left to right, one token ahead.
type parser struct {
	rest  string
	token string // a word, a number, an operator, a parenthesis; 'text with its opening quote; "" at the end
	err   error
	depth int
}

const maxDepth = 50

func (p *parser) expected(what string) error {
	if p.err != nil {
		return p.err
	}
	if p.token == "" {
		return fmt.Errorf("%s is expected at the end", what)
	}
	return fmt.Errorf("%s is expected where it says %s", what, strings.TrimPrefix(p.token, "'"))
}

func (p *parser) next() {
	p.rest = strings.TrimLeft(p.rest, " \t\n")
	if p.rest == "" {
		p.token = ""
		return
	}
	n := 1
	switch c := p.rest[0]; {
	case c == '\'':
		p.quoted()
		return
	case strings.HasPrefix(p.rest, "!=") || strings.HasPrefix(p.rest, "<=") || strings.HasPrefix(p.rest, ">="):
		n = 2
	case strings.ContainsRune("=<>()", rune(c)):
	default:
		n = strings.IndexFunc(p.rest, func(r rune) bool { return !isNameRune(r) && r != '.' })
		if n < 0 {
			n = len(p.rest)
		}
		if n == 0 {
			p.err = fmt.Errorf("%q does not belong here", p.rest[:1])
			n = 1
		}
	}
	p.token, p.rest = p.rest[:n], p.rest[n:]
}

func (p *parser) quoted() {
	var b strings.Builder
	b.WriteByte('\'')
	for rest := p.rest[1:]; ; {
		text, after, closed := strings.Cut(rest, "'")
		b.WriteString(text)
		if !closed {
			p.err = fmt.Errorf("the text %s is not closed", b.String())
			p.token, p.rest = b.String(), ""
			return
		}
		if !strings.HasPrefix(after, "'") {
			p.token, p.rest = b.String(), after
			return
		}
		b.WriteByte('\'')
		rest = after[1:]
	}
}

func (p *parser) either() (node, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, fmt.Errorf("it is nested deeper than %d", maxDepth)
	}
	defer func() { p.depth-- }()
	a, err := p.both()
	for err == nil && p.token == "or" {
		p.next()
		var b node
		b, err = p.both()
		a = either{a, b}
	}
	return a, err
}

func (p *parser) both() (node, error) {
	a, err := p.single()
	for err == nil && p.token == "and" {
		p.next()
		var b node
		b, err = p.single()
		a = both{a, b}
	}
	return a, err
}

func (p *parser) single() (node, error) {
	switch p.token {
	case "not":
		if p.depth++; p.depth > maxDepth {
			return nil, fmt.Errorf("it is nested deeper than %d", maxDepth)
		}
		defer func() { p.depth-- }()
		p.next()
		a, err := p.single()
		return inverse{a}, err
	case "(":
		p.next()
		a, err := p.either()
		if err == nil && p.token != ")" {
			err = p.expected("a closing parenthesis")
		}
		p.next()
		return a, err
	}
	a, err := p.operand()
	if err != nil {
		return nil, err
	}
	op := p.token
	switch op {
	case "=", "!=", "<", "<=", ">", ">=":
	default:
		return nil, p.expected("=, !=, <, <=, > or >=")
	}
	p.next()
	b, err := p.operand()
	return comparison{op, a, b}, err
}

func (p *parser) operand() (operand, error) {
	token := p.token
	if p.err != nil || token == "" {
		return operand{}, p.expected("a field or a value")
	}
	side, path, dotted := strings.Cut(token, ".")
	var o operand
	switch {
	case token[0] == '\'':
		o.constant = token[1:]
	case token == "true" || token == "false":
		o.constant = token == "true"
	case token == "null":
	case token == "op":
		o.side = "op"
	case dotted && (side == "before" || side == "after") && isPath(path):
		o.side, o.path = side, path
	default:
		r := number(token)
		if r == nil {
			return o, p.expected("before.FIELD, after.FIELD, op, 'a text', a number, true, false or null")
		}
		o.constant = r
	}
	p.next()
	return o, nil
}
