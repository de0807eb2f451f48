package config

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"warthesis/internal/given"
)

// fileLimit is the largest configuration file in bytes that is read.
const fileLimit = 1 << 20

const prefix = "WARTHESIS_"

// Variables of the same prefix that are no settings of the service.
const (
	// passwordKey is too secret for a file or a flag.
	passwordKey = "admin_password"
	// clientPrefix begins those of the client.
	clientPrefix = "client_"
)

// injected are the variables that clusters put into each container for a service
// called warthesis: where it is, and nothing that anybody has set.
var injected = regexp.MustCompile(`^(service_host|service_port(_.+)?|port|port_[0-9]+_(tcp|udp|sctp)(_(proto|port|addr))?)$`)

// trialData is the folder of a trial where none is given: never that of a registry with
// logins.
const trialData = "warthesis-trial"

// laying gathers what is wrong while settings are laid over each other.
type laying struct {
	c *Config
	// from says where each setting was given last.
	from  map[string]string
	wrong []string
}

// Lay lays settings over c: those of a YAML file ("" for none), over them WARTHESIS_…
// variables, given as "NAME=value" and named as the key in the file, in capitals, and
// over both flags, given as key and value. The error names all that is wrong at once,
// each with its line, variable or flag.
func (c *Config) Lay(file string, environment []string, flags [][2]string) error {
	l := &laying{c: c, from: map[string]string{}}
	if file != "" {
		if err := l.readFile(file); err != nil {
			return err
		}
	}
	l.readEnvironment(environment)
	for _, flag := range flags {
		l.set("--"+strings.ReplaceAll(flag[0], "_", "-"), flag[0], flag[1])
	}
	if c.Trial && l.from["data"] == "" {
		c.Data = trialData
	}
	if len(l.wrong) == 0 {
		for _, p := range c.problems() {
			l.refuse(l.from[p.key], p.says)
		}
	}
	if len(l.wrong) == 0 {
		return nil
	}
	return errors.New("the configuration is not right:\n  " + strings.Join(l.wrong, "\n  "))
}

func (l *laying) refuse(from, says string) {
	if from != "" {
		says = from + ": " + says
	}
	l.wrong = append(l.wrong, says)
}

// set puts one setting over the others, by its key in the file.
func (l *laying) set(from, key, value string) {
	set, known := l.c.settings()[key]
	if !known {
		l.refuse(from, fmt.Sprintf("there is no setting %s; there are %s", key, strings.Join(Keys(), ", ")))
		return
	}
	l.from[key] = from
	if err := set(value); err != nil {
		l.refuse(from, fmt.Sprintf("%s: %s", key, err))
	}
}

func (l *laying) readEnvironment(environment []string) {
	for _, entry := range environment {
		name, value, _ := strings.Cut(entry, "=")
		key, ours := strings.CutPrefix(name, prefix)
		if !ours {
			continue
		}
		switch key = strings.ToLower(key); {
		case strings.HasPrefix(key, clientPrefix), injected.MatchString(key):
		case key == passwordKey:
			l.c.AdminPassword = value
		default:
			l.set("the environment variable "+name, key, value)
		}
	}
}

// readFile reads a file, whose values are text, numbers, truths, and lists of text.
func (l *laying) readFile(path string) error {
	raw, err := given.Read(path, fileLimit)
	if err != nil {
		return fmt.Errorf("read the configuration: %w", err)
	}
	parsed, err := parser.ParseBytes(raw, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return fmt.Errorf("the configuration %s is no YAML:\n%s", path, yaml.FormatError(err, false, true))
	}
	name := filepath.Base(path)
	var documents []ast.Node
	for _, doc := range parsed.Docs {
		if doc.Body != nil && doc.Body.Type() != ast.CommentType && doc.Body.Type() != ast.CommentGroupType && doc.Body.Type() != ast.NullType {
			documents = append(documents, doc.Body)
		}
	}
	switch {
	case len(documents) == 0:
		return nil
	case len(documents) > 1:
		l.refuse(name, "it holds several documents; leave one")
		return nil
	}
	var pairs []*ast.MappingValueNode
	switch body := documents[0].(type) {
	case *ast.MappingNode:
		pairs = body.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{body}
	default:
		l.refuse(at(name, body), "it holds no settings; write each as  key: value")
		return nil
	}
	seen := map[string]bool{}
	for _, pair := range pairs {
		key := pair.Key.String()
		from := at(name, pair.Key)
		if seen[key] {
			l.refuse(from, fmt.Sprintf("%s stands here a second time", key))
			continue
		}
		seen[key] = true
		l.readValue(from, name, key, pair.Value)
	}
	return nil
}

func at(file string, n ast.Node) string {
	return fmt.Sprintf("%s, line %d", file, n.GetToken().Position.Line)
}

// lists are the settings that are several values.
var lists = []string{"outside_addresses", "trusted_proxies", "certificates"}

func (l *laying) readValue(from, file, key string, value ast.Node) {
	sequence, several := value.(*ast.SequenceNode)
	if !several {
		if text, ok := scalar(value); ok {
			l.set(from, key, text)
			return
		}
		l.refuse(from, fmt.Sprintf("%s has no value that can be read; write one, or leave the line out", key))
		return
	}
	if !slices.Contains(lists, key) {
		if _, known := l.c.settings()[key]; known {
			l.refuse(from, fmt.Sprintf("%s takes one value, and no list", key))
			return
		}
	}
	var values []string
	for _, one := range sequence.Values {
		text, ok := scalar(one)
		if !ok || strings.Contains(text, ",") {
			l.refuse(at(file, one), fmt.Sprintf("%s takes a list of texts without commas", key))
			return
		}
		values = append(values, text)
	}
	l.set(from, key, strings.Join(values, ","))
}

// scalar returns a single value as it is written, without quotes.
func scalar(n ast.Node) (string, bool) {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value, true
	case *ast.LiteralNode:
		return strings.TrimSpace(v.Value.Value), true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, true
	}
	return "", false
}
