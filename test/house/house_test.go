package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// file is a Go file of the project.
type file struct {
	path  string // from the project's root
	set   *token.FileSet
	ast   *ast.File
	lines []string
}

// files are those of directories, without tests unless they are asked for by name.
func files(t *testing.T, with func(path string) bool) (all []file) {
	err := filepath.WalkDir("../..", func(name string, d os.DirEntry, err error) error {
		require.NoError(t, err)
		name = strings.TrimPrefix(filepath.ToSlash(name), "../../")
		switch {
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git"):
			return filepath.SkipDir
		case d.IsDir() || !strings.HasSuffix(name, ".go") || !with(name):
			return nil
		}
		text, err := os.ReadFile("../../" + name)
		require.NoError(t, err)
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, name, text, parser.ParseComments)
		require.NoError(t, err)
		all = append(all, file{name, set, parsed, strings.Split(string(text), "\n")})
		return nil
	})
	require.NoError(t, err)
	require.NotEmpty(t, all)
	return all
}

func program(name string) bool { return !strings.HasSuffix(name, "_test.go") }

// rooms says what each room may use of the others. What stands in none of the lists may be used
// by nobody but node, cli and tests.
var rooms = map[string][]string{
	"internal/core/":         {"internal/core/", "client/protocol"},
	"internal/core/tags/":    {"client/protocol"},
	"internal/core/pace/":    {},
	"internal/core/changes/": {"internal/core/httprules", "internal/core/tags", "client/protocol"},
	"internal/core/key/":     {"internal/core/httprules"},
	"internal/core/fill/":    {"internal/core/tags"},
	"internal/tasks/":        {},
	"internal/core/worth/":   {},
	"internal/readahead/":    {},
	"internal/resident/":     {},
	"internal/disk/":         {"internal/core/"},
	"internal/watching/":     {"internal/tasks"},
	"internal/prime/":        {"internal/edge", "internal/tasks"},
	"internal/warm/":         {"internal/core/", "internal/edge", "internal/prime", "internal/tasks"},
	"internal/gate/":         {"internal/core/"},
	"internal/coding/":       {"internal/core/", "internal/tasks"},
	"internal/origin/":       {"internal/core/"},
	"internal/fetch/":        {"internal/core/", "internal/origin", "internal/coding", "internal/readahead", "internal/tasks", "client/protocol"},
	"internal/edge/":         {"internal/core/", "internal/fetch", "internal/coding", "internal/readahead", "internal/tasks", "internal/watching", "client/protocol"},
	"internal/records/":      {"internal/core/", "client/protocol"},
	"internal/onward/":       {"internal/core/", "internal/records"},
	"internal/secrets/":      {"internal/core/"},
	"internal/keyset/":       {"internal/core/"},
	"internal/detect/":       {"internal/core/", "internal/records", "client/protocol"},
	"internal/control/":      {"internal/core/", "internal/edge", "internal/detect", "internal/onward", "internal/records", "internal/gate", "internal/resident", "internal/prime", "internal/watching", "client"},
	"internal/localpg/":      {},
	"internal/node/":         {"internal/", "client"},
	"internal/cli/":          {"internal/", "client", "demo", "console"},
	"client/":                {"client"},
	"demo/":                  {"internal/", "client", "clients", "console"},
}

// TestRoomsDoNotReachThroughEachOther: the narrowest room that a file stands in says what it may
// import of the project's own.
func TestRoomsDoNotReachThroughEachOther(t *testing.T) {
	for _, f := range files(t, func(name string) bool { return program(name) && !strings.HasPrefix(name, "test/") }) {
		room := ""
		for name := range rooms {
			if strings.HasPrefix(f.path, name) && len(name) > len(room) {
				room = name
			}
		}
		if room == "" {
			continue // main packages
		}
		for _, i := range f.ast.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			ours, isOurs := strings.CutPrefix(name, "gerastic/")
			if inClient, ok := strings.CutPrefix(name, "gerastic.example/"); ok {
				ours, isOurs = inClient, true
			}
			if !isOurs {
				continue
			}
			assert.True(t, slices.ContainsFunc(rooms[room], func(may string) bool { return strings.HasPrefix(ours+"/", may) }), "%s imports %s, which %s may not use", f.path, name, room)
		}
	}
}

// plain are the rooms of a request's way, whose functions are held to a number of branches, and
// to parameters that say what they are.
var plain = []string{"internal/edge/", "internal/fetch/", "internal/core/fill/", "internal/origin/"}

const (
	mostLines    = 60
	mostBranches = 15
)

func TestFunctionsFitAScreen(t *testing.T) {
	seen := 0
	for _, f := range files(t, program) {
		isPlain := slices.ContainsFunc(plain, func(room string) bool { return strings.HasPrefix(f.path, room) })
		for _, d := range f.ast.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			seen++
			where := f.set.Position(fn.Pos()).String() + " " + fn.Name.Name
			assert.LessOrEqual(t, f.set.Position(fn.End()).Line-f.set.Position(fn.Pos()).Line+1, mostLines, "%s is too long", where)
			if !isPlain {
				continue
			}
			assert.LessOrEqual(t, branches(fn), mostBranches, "%s has too many branches", where)
			for _, p := range fn.Type.Params.List {
				id, _ := p.Type.(*ast.Ident)
				assert.False(t, id != nil && id.Name == "bool", "%s takes a boolean; name what it means, in a struct or a type", where)
			}
		}
	}
	assert.Greater(t, seen, 1000)
}

// branches counts the places where a function goes one way or another.
func branches(fn *ast.FuncDecl) (n int) {
	ast.Inspect(fn, func(node ast.Node) bool {
		switch node := node.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt:
			n++
		case *ast.CaseClause:
			n += min(1, len(node.List))
		case *ast.CommClause:
			if node.Comm != nil {
				n++
			}
		case *ast.BinaryExpr:
			if node.Op == token.LAND || node.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}

// TestPackagesKeepNoState: a variable of a package is set where it is declared, and never again;
// what changes belongs to somebody who is made and ends.
func TestPackagesKeepNoState(t *testing.T) {
	variables := map[string]map[string]bool{} // of each package
	all := files(t, func(name string) bool { return program(name) && !strings.HasPrefix(name, "test/") })
	for _, f := range all {
		for _, d := range f.ast.Decls {
			g, ok := d.(*ast.GenDecl)
			if !ok || g.Tok != token.VAR {
				continue
			}
			for _, spec := range g.Specs {
				v := spec.(*ast.ValueSpec)
				for _, name := range v.Names {
					if variables[path.Dir(f.path)] == nil {
						variables[path.Dir(f.path)] = map[string]bool{}
					}
					variables[path.Dir(f.path)][name.Name] = true
				}
				assert.False(t, changes(v), "%s %s is there to be changed", f.set.Position(v.Pos()), v.Names[0])
			}
		}
	}
	assert.Greater(t, len(variables), 15)
	for _, f := range all {
		set := func(e ast.Expr) {
			name := root(e)
			if name == nil || name.Obj != nil && f.ast.Scope.Lookup(name.Name) != name.Obj {
				return // a variable of its function
			}
			assert.False(t, variables[path.Dir(f.path)][name.Name], "%s sets %s, a variable of its package", f.set.Position(e.Pos()), name)
		}
		ast.Inspect(f.ast, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.AssignStmt:
				for _, e := range n.Lhs {
					if n.Tok != token.DEFINE {
						set(e)
					}
				}
			case *ast.IncDecStmt:
				set(n.X)
			}
			return true
		})
	}
}

// root is the variable that an expression begins with; nil if it begins with none.
func root(e ast.Expr) *ast.Ident {
	switch e := e.(type) {
	case *ast.Ident:
		return e
	case *ast.IndexExpr:
		return root(e.X)
	case *ast.SelectorExpr:
		return root(e.X)
	case *ast.StarExpr:
		return root(e.X)
	case *ast.ParenExpr:
		return root(e.X)
	}
	return nil
}

// changes reports whether a variable is of a kind that is of use only if it changes: a lock, a
// counter, a pool, or a channel or map that begins empty.
func changes(v *ast.ValueSpec) bool {
	kind, _ := v.Type.(*ast.SelectorExpr)
	if generic, ok := v.Type.(*ast.IndexExpr); ok {
		kind, _ = generic.X.(*ast.SelectorExpr)
	}
	if kind != nil {
		if of, ok := kind.X.(*ast.Ident); ok && (of.Name == "sync" || of.Name == "atomic") {
			return true
		}
	}
	return slices.ContainsFunc(v.Values, func(e ast.Expr) bool {
		call, ok := e.(*ast.CallExpr)
		if !ok {
			return false
		}
		name, ok := call.Fun.(*ast.Ident)
		return ok && name.Name == "make"
	})
}

// unwanted are words that comments do not use, with what they use instead.
var unwanted = map[*regexp.Regexp]string{
	regexp.MustCompile(`\btells? whether\b`):               "reports whether",
	regexp.MustCompile(`\b(he|him|his|himself|she|her)\b`): "they",
	regexp.MustCompile(`\brule file\b`):                    "policy",
	regexp.MustCompile(`\bsoft purge`):                     "a purge that softens",
}

// longest is how long a line may be that is nothing but a comment, in characters.
const longest = 120

func TestCommentsArePlain(t *testing.T) {
	for _, f := range files(t, func(string) bool { return true }) {
		for _, group := range f.ast.Comments {
			for _, c := range group.List {
				at := f.set.Position(c.Pos())
				for word, better := range unwanted {
					assert.False(t, word.MatchString(c.Text) && !strings.HasPrefix(f.path, "test/house/"), "%s: write %q\n%s", at, better, c.Text)
				}
				if line := strings.TrimLeft(f.lines[at.Line-1], "\t"); strings.HasPrefix(line, "//") && !strings.HasPrefix(line, "//go:") {
					assert.LessOrEqual(t, len([]rune(line)), longest, "%s is a long comment", at)
				}
			}
		}
	}
}

// TestEachPackageSaysWhatItIs in a doc.go.
func TestEachPackageSaysWhatItIs(t *testing.T) {
	documented, packages := map[string]bool{}, map[string]bool{}
	for _, f := range files(t, program) {
		if dir := path.Dir(f.path); f.ast.Name.Name != "main" {
			packages[dir] = true
			documented[dir] = documented[dir] || path.Base(f.path) == "doc.go" && f.ast.Doc != nil
		}
	}
	for dir := range packages {
		assert.True(t, documented[dir], "%s has no doc.go", dir)
	}
}

// quoted is a word of a document in backquotes that may be a name of the code.
var quoted = regexp.MustCompile("`([A-Za-z][A-Za-z0-9_./]*[…]?)[^`]*`")

// TestTheArchitectureNamesWhatIsThere: files, tests, and what a dot or a capital letter shows to
// be a name of the program.
func TestTheArchitectureNamesWhatIsThere(t *testing.T) {
	declared, paths := map[string]bool{}, ""
	for _, f := range files(t, func(string) bool { return true }) {
		paths += f.path + "\n"
		ast.Inspect(f.ast, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncDecl:
				declared[n.Name.Name] = true
			case *ast.TypeSpec:
				declared[n.Name.Name] = true
			case *ast.ValueSpec:
				for _, name := range n.Names {
					declared[name.Name] = true
				}
			case *ast.Field:
				for _, name := range n.Names {
					declared[name.Name] = true
				}
			}
			return true
		})
	}
	begins := func(prefix string) bool {
		for name := range declared {
			if strings.HasPrefix(name, prefix) {
				return true
			}
		}
		return false
	}
	text, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	seen := 0
	for _, match := range quoted.FindAllStringSubmatch(string(text), -1) {
		name := match[1]
		last := name[strings.LastIndexByte(name, '.')+1:]
		switch {
		case strings.HasSuffix(name, ".go"):
			assert.Contains(t, paths, name+"\n", "there is no such file")
		case strings.HasPrefix(name, "Test"):
			test, open := strings.CutSuffix(name, "…")
			assert.True(t, declared[test] || open && begins(test), "there is no test %s", name)
		case strings.ContainsAny(name, "/…") || slices.Contains([]string{"yaml", "json", "token", "md", "owed"}, last) || last == name && strings.ToLower(name[:1]) == name[:1] || strings.Contains(last, "_"):
			continue // a path, a room, a table's column, a header field
		case last == name && strings.ToUpper(name[:1]) == name[:1] && !declared[name] && strings.Contains(match[0], "-"):
			continue // a header field
		default:
			assert.True(t, declared[last], "there is no %s", name)
		}
		seen++
	}
	assert.Greater(t, seen, 60)
}

// TestProseIsBroken: lines of the documents fit a screen, but for tables, code and what is made
// from the code.
func TestProseIsBroken(t *testing.T) {
	documents, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, name := range append(documents, "../../README.md") {
		if path.Base(name) == "commands.md" {
			continue
		}
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		code := false
		for i, line := range strings.Split(string(text), "\n") {
			trimmed := strings.TrimSpace(line)
			if strings.HasPrefix(trimmed, "```") {
				code = !code
			}
			if !code && !strings.HasPrefix(trimmed, "|") {
				assert.LessOrEqual(t, len([]rune(line)), longest, "%s:%d", name, i+1)
			}
		}
	}
}
