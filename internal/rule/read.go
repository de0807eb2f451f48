package rule

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// The bounds of a list, so that whoever may write one cannot make it a burden.
const (
	MostListBytes = 64 << 10
	MostRules     = 500
	// MostPatterns bounds those of a rule, and its exceptions.
	MostPatterns = 100
	// MostBecause is in characters.
	MostBecause = 500
	// mostDepth bounds how deep values may nest, and mostTokens how many words and signs a
	// document has: the parser takes time and memory that grow with both.
	mostDepth  = 16
	mostTokens = 40_000
)

var listName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$`)

// CheckListName refuses what cannot be the name of a list.
func CheckListName(name string) error {
	if !listName.MatchString(name) {
		return fmt.Errorf("%.70q is no name of a list; it has 1 to 64 small letters, digits and dashes between them", name)
	}
	return nil
}

// Fault is what is wrong with a list, and where.
type Fault struct {
	// Line is counted from 1; 0 is for the list as a whole.
	Line int
	// Rule is the number of the rule, from 1; 0 where it is in none.
	Rule    int
	Message string
}

// Error says where it is and what is possible.
func (f *Fault) Error() string {
	switch {
	case f.Line == 0:
		return f.Message
	case f.Rule == 0:
		return fmt.Sprintf("line %d: %s", f.Line, f.Message)
	}
	return fmt.Sprintf("line %d, in rule %d: %s", f.Line, f.Rule, f.Message)
}

// Read reads a list whole, or says what is wrong with it: the error is a *Fault.
func (k Kind[F]) Read(level Level, of string, raw []byte) (List[F], error) {
	list := List[F]{Level: level, Of: of}
	items, err := k.sequence(raw)
	if err != nil {
		return list, err
	}
	if len(items) > MostRules {
		return list, &Fault{Message: fmt.Sprintf("a list has at most %d rules, and this one %d", MostRules, len(items))}
	}
	for i, item := range items {
		r, err := k.rule(level, item)
		if err != nil {
			var fault *Fault
			if !errors.As(err, &fault) {
				fault = &Fault{Line: lineOf(item), Message: err.Error()}
			}
			fault.Rule = i + 1
			return List[F]{}, fault
		}
		list.Rules = append(list.Rules, r)
	}
	if uses := list.Uses(); len(uses) > MostUses {
		return List[F]{}, &Fault{Message: fmt.Sprintf("a list uses at most %d others, and this one %d", MostUses, len(uses))}
	}
	return list, nil
}

// sequence parses a document that is a list, or empty.
func (k Kind[F]) sequence(raw []byte) ([]ast.Node, error) {
	switch {
	case len(raw) > MostListBytes:
		return nil, &Fault{Message: fmt.Sprintf("a list has at most %d KiB, and this one %d", MostListBytes>>10, len(raw)>>10)}
	case !utf8.Valid(raw):
		return nil, &Fault{Message: "a list is text in UTF-8, and this is not"}
	}
	tokens := lexer.Tokenize(string(raw))
	if fault := checkTokens(tokens); fault != nil {
		return nil, fault
	}
	file, err := parse(tokens)
	if err != nil {
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) && syntax.GetToken() != nil {
			return nil, &Fault{Line: syntax.GetToken().Position.Line, Message: "this is no YAML: " + oneLine(syntax.GetMessage())}
		}
		return nil, &Fault{Message: "this is no YAML: " + oneLine(err.Error())}
	}
	var bodies []ast.Node
	for _, doc := range file.Docs {
		if doc.Body != nil && doc.Body.Type() != ast.CommentType && doc.Body.Type() != ast.CommentGroupType {
			bodies = append(bodies, doc.Body)
		}
	}
	if len(bodies) == 0 {
		return nil, nil
	}
	if len(bodies) > 1 {
		return nil, &Fault{Line: lineOf(bodies[1]), Message: "a list is one document; take away what stands behind ---"}
	}
	body := bodies[0]
	// The kind's name may stand above the list.
	if pairs, err := pairsOf(body); err == nil && len(pairs) == 1 {
		if key, err := scalar(pairs[0].Key); err == nil && key == k.Name {
			body = pairs[0].Value
		}
	}
	switch body := body.(type) {
	case *ast.SequenceNode:
		return body.Values, nil
	case *ast.NullNode:
		return nil, nil
	}
	return nil, &Fault{Line: lineOf(bodies[0]), Message: fmt.Sprintf("%s rules are a list: begin each with a dash, as in\n- %s", k.Name, k.Example)}
}

// parse lets no input end the program.
func parse(tokens token.Tokens) (file *ast.File, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it cannot be read (%v)", r)
		}
	}()
	return parser.Parse(tokens, 0)
}

// checkTokens bounds a document before anything is built of it: the tokens are those that
// the parser sees, so that no bracket hides in a string or a comment.
func checkTokens(tokens token.Tokens) *Fault {
	if len(tokens) > mostTokens {
		return &Fault{Message: fmt.Sprintf("a list has at most %d words and signs, and this one %d", mostTokens, len(tokens))}
	}
	// flow are the brackets that are open, entries the dashes and question marks that begin
	// one another on a line, rules the dashes in the column of the first one.
	flow, entries, line, rules, first, documents := 0, 0, 0, 0, 0, 0
	for i, t := range tokens {
		if t.Position.Line != line {
			line, entries = t.Position.Line, 0
		}
		switch t.Type {
		case token.DocumentHeaderType, token.DocumentEndType:
			if documents++; documents > 2 && i < len(tokens)-1 {
				return &Fault{Line: line, Message: "a list is one document; take away what stands behind ---"}
			}
		case token.SequenceStartType, token.MappingStartType:
			flow++
		case token.SequenceEndType, token.MappingEndType:
			flow = max(0, flow-1)
		case token.SequenceEntryType, token.MappingKeyType:
			entries++
			if first == 0 {
				first = t.Position.Column
			}
			if t.Position.Column == first {
				rules++
			}
		}
		if flow > mostDepth || entries > mostDepth {
			return &Fault{Line: line, Message: fmt.Sprintf("values nest more than %d deep", mostDepth)}
		}
	}
	if rules > MostRules {
		return &Fault{Message: fmt.Sprintf("a list has at most %d rules, and this one %d", MostRules, rules)}
	}
	return nil
}

func lineOf(n ast.Node) int {
	if n == nil || n.GetToken() == nil {
		return 0
	}
	return n.GetToken().Position.Line
}

// rule reads one rule.
func (k Kind[F]) rule(level Level, item ast.Node) (Rule[F], error) {
	r := Rule[F]{Line: lineOf(item)}
	pairs, err := pairsOf(item)
	if err != nil {
		return r, err
	}
	var words []string
	seen := map[string]bool{}
	verb := k.verbOf(pairs)
	for _, pair := range pairs {
		key, v, err := entry(pair)
		if err != nil {
			return r, err
		}
		v.verb = verb
		if r.Line == 0 || v.line < r.Line {
			r.Line = v.line
		}
		if seen[key] {
			return r, v.fault("%s stands there twice", key)
		}
		seen[key] = true
		said, err := k.take(&r, level, key, v)
		if err != nil {
			return r, err
		}
		words = append(words, said)
	}
	if r.Use != "" {
		if len(pairs) > 1 {
			return r, &Fault{Line: r.Line, Message: "a rule that uses another list says nothing else"}
		}
		r.Words = words[0]
		return r, nil
	}
	if r.Verb == "" {
		return r, &Fault{Line: r.Line, Message: fmt.Sprintf("the rule does not say what it does; give it %s", either(k.Verbs))}
	}
	if r.by != "" && r.newest == 0 {
		return r, &Fault{Line: r.Line, Message: "by says in which order the newest are counted; write newest as well"}
	}
	if r.newest > 0 && r.by == "" {
		r.by = k.Ranking.Orders[0]
	}
	r.ranking = k.Ranking
	r.Words = strings.Join(slices.DeleteFunc(words, func(s string) bool { return s == "" }), ", ")
	return r, nil
}

// verbOf returns what a rule does, "" where it does not say.
func (k Kind[F]) verbOf(pairs []*ast.MappingValueNode) string {
	for _, pair := range pairs {
		if key, err := scalar(pair.Key); err == nil && slices.Contains(k.Verbs, key) {
			return key
		}
	}
	return ""
}

// take puts one key of a rule where it belongs, and returns its words.
func (k Kind[F]) take(r *Rule[F], level Level, key string, v Value) (said string, err error) {
	read, isCondition := k.Conditions[key]
	switch {
	case slices.Contains(k.Verbs, key) && r.Verb != "":
		return "", v.fault("a rule does one thing: it says %s and %s", r.Verb, key)
	case slices.Contains(k.Verbs, key):
		r.Verb = key
		r.Patterns, err = v.Patterns()
		return key + ": " + r.Patterns.String(), err
	case key == "except":
		r.Except, err = v.Patterns()
		return key + ": " + r.Except.String(), err
	case key == "because":
		r.Because, err = v.sentence()
		return "", err
	case key == "use" && level != OfName:
		r.Use, err = v.one()
		if err == nil {
			err = CheckListName(r.Use)
		}
		if err != nil {
			return "", v.fault("use: %s", err)
		}
		return "use: " + r.Use, nil
	case key == "binding" && level == OfRegistry:
		r.Binding, err = v.Truth()
		return fmt.Sprintf("binding: %t", r.Binding), err
	case key == "binding":
		return "", v.fault("only rules of the registry can be binding")
	case k.Ranking != nil && key == "newest":
		if r.newest, err = v.Count(); err != nil {
			return "", v.fault("newest: %s", err)
		}
		return "newest: " + v.text, nil
	case k.Ranking != nil && key == "by":
		if r.by = v.text; v.several || !slices.Contains(k.Ranking.Orders, v.text) {
			return "", v.fault("by: %.70q is no order; write %s", v.text, either(k.Ranking.Orders))
		}
		return "by: " + v.text, nil
	case isCondition:
		holds, err := read(v)
		if err != nil {
			return "", v.fault("%s: %s", key, err)
		}
		said := key + ": " + v.text
		if strings.HasPrefix(v.text, "<") || strings.HasPrefix(v.text, ">") {
			// As it has to be written.
			said = fmt.Sprintf("%s: %q", key, v.text)
		}
		r.conditions = append(r.conditions, condition[F]{key, said, v.all, holds})
		return said, nil
	}
	return "", v.fault("%q is nothing that %s rules know; possible are %s", key, k.Name, listed(k.allowed(level)))
}

func either(words []string) string {
	return strings.ReplaceAll(listed(words), " and ", " or ")
}

// pairsOf returns the keys and values of a rule.
func pairsOf(item ast.Node) ([]*ast.MappingValueNode, error) {
	switch n := item.(type) {
	case *ast.MappingNode:
		return n.Values, nil
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}, nil
	}
	return nil, &Fault{Line: lineOf(item), Message: "a rule is made of keys and values, as in seal: \"*:<version>\""}
}

// entry returns a key with its value.
func entry(pair *ast.MappingValueNode) (string, Value, error) {
	key, err := scalar(pair.Key)
	if err != nil {
		return "", Value{}, err
	}
	v := Value{line: lineOf(pair.Key)}
	sequence, several := pair.Value.(*ast.SequenceNode)
	if !several {
		v.text, err = scalar(pair.Value)
		v.all = []string{v.text}
		return key, v, err
	}
	for _, one := range sequence.Values {
		text, err := scalar(one)
		if err != nil {
			return "", v, err
		}
		v.all = append(v.all, text)
	}
	v.several, v.text = true, "["+strings.Join(v.all, ", ")+"]"
	return key, v, nil
}

// scalar returns a plain value as text: no anchors, aliases, tags or nested things.
func scalar(node ast.Node) (string, error) {
	switch n := node.(type) {
	case *ast.StringNode:
		return n.Value, nil
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, nil
	case *ast.LiteralNode:
		return n.Value.Value, nil
	case *ast.NullNode:
		return "", &Fault{Line: lineOf(node), Message: "the value is missing"}
	case nil:
		return "", &Fault{Message: "the value is missing"}
	}
	return "", &Fault{Line: lineOf(node), Message: "this is no plain value; write a word, a number or a list of them"}
}
