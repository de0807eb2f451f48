package main

import (
	"bufio"
	"fmt"
	"go/ast"
	"go/format"
	"go/token"
	"go/types"
	"log"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"unicode"

	"golang.org/x/tools/go/packages"
)

type dest struct{ room, file string } // room "" is the package itself

type edit struct {
	from, to int
	text     string
}

func main() {
	pkgPath, specFile, dir := os.Args[1], os.Args[2], os.Args[3]
	fileTo, declTo, rename, funcs, embed := map[string]dest{}, map[string]dest{}, map[string]string{}, map[string]bool{}, map[string]bool{}
	f, _ := os.Open(specFile)
	for s := bufio.NewScanner(f); s.Scan(); {
		w := strings.Fields(s.Text())
		if len(w) < 3 {
			continue
		}
		d := dest{}
		if w[0] != "rename" && w[0] != "embed" {
			d.file = filepath.Base(w[2])
			d.room = strings.TrimSuffix(filepath.Dir(w[2]), ".")
			if d.room == "." {
				d.room = ""
			}
		}
		switch w[0] {
		case "file":
			fileTo[w[1]] = d
		case "decl":
			declTo[w[1]] = d
		case "rename":
			rename[w[1]] = w[2]
		case "embed":
			embed[w[1]] = true
		}
	}
	_ = funcs
	recvIdent := map[*ast.Ident]bool{}
	fset := token.NewFileSet()
	cfg := &packages.Config{Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo | packages.NeedImports | packages.NeedDeps, Fset: fset, BuildFlags: []string{"-tags", "netgo,osusergo,sqlite_omit_load_extension"}}
	pkgs, err := packages.Load(cfg, pkgPath)
	if err != nil || len(pkgs[0].Errors) > 0 {
		log.Fatal(err, pkgs[0].Errors)
	}
	p := pkgs[0]
	info := p.TypesInfo
	roomOf := map[types.Object]dest{}
	recvMoved := map[types.Object]bool{} // methods that become functions
	type unit struct {
		node ast.Node
		doc  *ast.CommentGroup
		file string
		to   dest
		pre  string
	}
	var units []unit
	declName := func(d ast.Decl) string {
		switch n := d.(type) {
		case *ast.FuncDecl:
			if n.Recv != nil {
				t := n.Recv.List[0].Type
				if st, ok := t.(*ast.StarExpr); ok {
					t = st.X
				}
				return t.(*ast.Ident).Name + "." + n.Name.Name
			}
			return n.Name.Name
		}
		return ""
	}
	src := map[string][]byte{}
	for i, file := range p.Syntax {
		name := filepath.Base(p.GoFiles[i])
		src[name], _ = os.ReadFile(p.GoFiles[i])
		base, ok := fileTo[name]
		if !ok {
			base = dest{"", name}
		}
		for _, d := range file.Decls {
			switch n := d.(type) {
			case *ast.FuncDecl:
				to := base
				if o, ok := declTo[declName(n)]; ok {
					to = o
				}
				units = append(units, unit{n, n.Doc, name, to, ""})
				roomOf[info.Defs[n.Name]] = to
			case *ast.GenDecl:
				if n.Tok == token.IMPORT {
					continue
				}
				to := base
				split := false
				for _, s := range n.Specs {
					for _, nm := range specNames(s) {
						if o, ok := declTo[nm.Name]; ok {
							if len(n.Specs) == 1 {
								to = o
							} else {
								split = true
							}
						}
					}
				}
				if !split {
					units = append(units, unit{n, n.Doc, name, to, ""})
				}
				for _, s := range n.Specs {
					sto := to
					for _, nm := range specNames(s) {
						if o, ok := declTo[nm.Name]; ok {
							sto = o
						}
					}
					if split {
						var doc *ast.CommentGroup
						switch x := s.(type) {
						case *ast.ValueSpec:
							doc = x.Doc
						case *ast.TypeSpec:
							doc = x.Doc
						}
						units = append(units, unit{s, doc, name, sto, n.Tok.String() + " "})
					}
					for _, nm := range specNames(s) {
						roomOf[info.Defs[nm]] = sto
					}
					if ts, ok := s.(*ast.TypeSpec); ok {
						ast.Inspect(ts.Type, func(x ast.Node) bool {
							if fl, ok := x.(*ast.Field); ok {
								for _, nm := range fl.Names {
									if o := info.Defs[nm]; o != nil {
										roomOf[o] = sto
									}
								}
							}
							return true
						})
					}
				}
			}
		}
	}
	// Methods whose type is in another room become functions.
	for _, u := range units {
		fd, ok := u.node.(*ast.FuncDecl)
		if !ok || fd.Recv == nil {
			continue
		}
		t := info.Defs[fd.Name].(*types.Func).Type().(*types.Signature).Recv().Type()
		if pt, ok := t.(*types.Pointer); ok {
			t = pt.Elem()
		}
		if roomOf[t.(*types.Named).Obj()].room != u.to.room {
			if embed[t.(*types.Named).Obj().Name()] {
				ast.Inspect(fd.Recv, func(n ast.Node) bool {
					if id, ok := n.(*ast.Ident); ok {
						recvIdent[id] = true
					}
					return true
				})
				continue
			}
			recvMoved[info.Defs[fd.Name]] = true
		}
	}
	inRoom := func(pos token.Pos) (unit, bool) {
		for _, u := range units {
			start := u.node.Pos()
			if pos >= start && pos < u.node.End() {
				return u, true
			}
		}
		return unit{}, false
	}
	// Who is used from elsewhere must be exported.
	newName := map[types.Object]string{}
	export := func(o types.Object) {
		n := o.Name()
		if r, ok := rename[n]; ok {
			newName[o] = r
			return
		}
		if !ast.IsExported(n) {
			newName[o] = string(unicode.ToUpper(rune(n[0]))) + n[1:]
		}
	}
	for id, o := range info.Uses {
		if origin, ok := o.(*types.Var); ok {
			o = origin.Origin()
		}
		if fn, ok := o.(*types.Func); ok {
			o = fn.Origin()
		}
		to, ours := roomOf[o]
		if !ours {
			continue
		}
		u, ok := inRoom(id.Pos())
		if ok && u.to.room != to.room && !recvIdent[id] {
			export(o)
		}
	}
	// Embedded fields follow the names of their types.
	pkgName := func(room string) string {
		if room == "" {
			return p.Name
		}
		return filepath.Base(room)
	}
	edits := map[string][]edit{}
	add := func(from, to token.Pos, text string) {
		pos := fset.Position(from)
		edits[filepath.Base(pos.Filename)] = append(edits[filepath.Base(pos.Filename)], edit{pos.Offset, fset.Position(to).Offset, text})
	}
	uses := map[string]map[string]bool{} // room/file -> imports
	need := func(u unit, imp string) {
		k := u.to.room + "/" + u.to.file
		if uses[k] == nil {
			uses[k] = map[string]bool{}
		}
		uses[k][imp] = true
	}
	selX := map[*ast.Ident]*ast.SelectorExpr{}
	keyed := map[*ast.Ident]bool{}
	for _, file := range p.Syntax {
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				selX[s.Sel] = s
			}
			if kv, ok := n.(*ast.KeyValueExpr); ok {
				if id, ok := kv.Key.(*ast.Ident); ok {
					if v, ok := info.Uses[id].(*types.Var); ok && v.IsField() {
						keyed[id] = true
					}
				}
			}
			return true
		})
	}
	for id, o := range info.Uses {
		u, ok := inRoom(id.Pos())
		if !ok {
			continue
		}
		if recvIdent[id] {
			continue
		}
		if pn, ok := o.(*types.PkgName); ok {
			need(u, importLine(pn))
			continue
		}
		if v, ok := o.(*types.Var); ok {
			o = v.Origin()
		}
		if fn, ok := o.(*types.Func); ok {
			o = fn.Origin()
		}
		to, ours := roomOf[o]
		// An embedded field is named as its type.
		if v, ok := o.(*types.Var); ok && !ours && v.IsField() && v.Embedded() {
			t := v.Type()
			if pt, ok := t.(*types.Pointer); ok {
				t = pt.Elem()
			}
			if nt, ok := t.(*types.Named); ok {
				if nn := newName[nt.Obj()]; nn != "" {
					add(id.Pos(), id.End(), nn)
				}
			}
			continue
		}
		if !ours {
			continue
		}
		name := o.Name()
		if nn := newName[o]; nn != "" {
			name = nn
		}
		isMember := false
		if v, ok := o.(*types.Var); ok && v.IsField() {
			isMember = true
		}
		if fn, ok := o.(*types.Func); ok && fn.Type().(*types.Signature).Recv() != nil {
			isMember = true
		}
		if recvMoved[o] {
			continue // calls are handled below
		}
		if isMember || u.to.room == to.room {
			if name != o.Name() {
				add(id.Pos(), id.End(), name)
			}
			continue
		}
		need(u, fmt.Sprintf("%q", p.PkgPath+pathOf(to.room)))
		add(id.Pos(), id.End(), pkgName(to.room)+"."+name)
	}
	for id, o := range info.Defs {
		if o == nil {
			continue
		}
		if nn := newName[o]; nn != "" {
			add(id.Pos(), id.End(), nn)
			// The doc comment begins with the name.
			for _, u := range units {
				if u.doc != nil && u.node.Pos() <= id.Pos() && id.Pos() < u.node.End() {
					text := u.doc.List[0]
					if strings.HasPrefix(text.Text, "// "+o.Name()+" ") {
						add(text.Pos()+3, text.Pos()+3+token.Pos(len(o.Name())), nn)
					}
				}
			}
		}
	}
	// Calls of moved methods.
	for _, file := range p.Syntax {
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			sel, ok := call.Fun.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			o := info.Uses[sel.Sel]
			if o == nil || !recvMoved[o] {
				return true
			}
			u, _ := inRoom(call.Pos())
			to := roomOf[o]
			name := o.Name()
			if nn := newName[o]; nn != "" {
				name = nn
			}
			if u.to.room != to.room {
				name = pkgName(to.room) + "." + name
				need(u, fmt.Sprintf("%q", p.PkgPath+pathOf(to.room)))
			}
			recv := string(src[filepath.Base(fset.Position(sel.X.Pos()).Filename)][fset.Position(sel.X.Pos()).Offset:fset.Position(sel.X.End()).Offset])
			add(sel.Pos(), sel.End(), name)
			sig := o.Type().(*types.Signature)
			if sig.Params().Len() > 0 && sig.Params().At(0).Type().String() == "context.Context" {
				add(call.Args[0].End(), call.Args[0].End(), ", "+recv)
			} else if len(call.Args) > 0 {
				add(call.Lparen+1, call.Lparen+1, recv+", ")
			} else {
				add(call.Lparen+1, call.Lparen+1, recv)
			}
			return true
		})
	}
	for _, u := range units {
		fd, ok := u.node.(*ast.FuncDecl)
		if !ok || fd.Recv == nil || !recvMoved[info.Defs[fd.Name]] {
			continue
		}
		sig := info.Defs[fd.Name].Type().(*types.Signature)
		rf := fd.Recv.List[0]
		file := src[u.file]
		// The receiver's type may be qualified: take it from its parts.
		typ := rf.Type
		star := ""
		if st, ok := typ.(*ast.StarExpr); ok {
			star, typ = "*", st.X
		}
		to := roomOf[info.Uses[typ.(*ast.Ident)]]
		tn := info.Uses[typ.(*ast.Ident)].Name()
		if nn := newName[info.Uses[typ.(*ast.Ident)]]; nn != "" {
			tn = nn
		}
		rname := "_"
		if len(rf.Names) > 0 {
			rname = rf.Names[0].Name
		}
		param := rname + " " + star + pkgName(to.room) + "." + tn
		need(u, fmt.Sprintf("%q", p.PkgPath+pathOf(to.room)))
		add(fd.Recv.Pos(), fd.Name.Pos(), "")
		_ = file
		if sig.Params().Len() > 0 && sig.Params().At(0).Type().String() == "context.Context" {
			first := fd.Type.Params.List[0]
			add(first.End(), first.End(), ", "+param)
		} else if sig.Params().Len() > 0 {
			add(fd.Type.Params.Opening+1, fd.Type.Params.Opening+1, param+", ")
		} else {
			add(fd.Type.Params.Opening+1, fd.Type.Params.Opening+1, param)
		}
	}
	// Write.
	out := map[string]*strings.Builder{}
	var order []string
	for _, u := range units {
		k := u.to.room + "/" + u.to.file
		if out[k] == nil {
			out[k] = &strings.Builder{}
			order = append(order, k)
		}
		start := u.node.Pos()
		if u.doc != nil {
			start = u.doc.Pos()
		}
		from, to := fset.Position(start).Offset, fset.Position(u.node.End()).Offset
		// A comment behind the last line belongs to it.
		raw := src[u.file]
		for to < len(raw) && raw[to] != '\n' {
			to++
		}
		es := edits[u.file]
		sort.SliceStable(es, func(i, j int) bool { return es[i].from < es[j].from })
		text, at := "", from
		for _, e := range es {
			if e.from < from || e.to > to {
				continue
			}
			if e.from < at {
				continue // inside one that was made already
			}
			text += string(raw[at:e.from]) + e.text
			at = e.to
		}
		text += string(raw[at:to])
		if u.pre != "" {
			body := text
			doc := ""
			if u.doc != nil {
				n := fset.Position(u.node.Pos()).Offset - from
				_ = n
				lines := strings.Split(text, "\n")
				for len(lines) > 0 && strings.HasPrefix(strings.TrimSpace(lines[0]), "//") {
					doc += strings.TrimSpace(lines[0]) + "\n"
					lines = lines[1:]
				}
				body = strings.TrimSpace(strings.Join(lines, "\n"))
			}
			text = doc + u.pre + body
		}
		out[k].WriteString("\n" + text + "\n")
	}
	headers := map[string]string{}
	for i, file := range p.Syntax {
		if file.Doc != nil {
			name := filepath.Base(p.GoFiles[i])
			headers[name] = string(src[name][fset.Position(file.Doc.Pos()).Offset:fset.Position(file.Doc.End()).Offset]) + "\n"
		}
	}
	for _, g := range p.GoFiles {
		os.Remove(g)
	}
	for _, k := range order {
		room, name, _ := strings.Cut(k, "/")
		if i := strings.LastIndex(k, "/"); i >= 0 {
			room, name = k[:i], k[i+1:]
		}
		var std, own, ext []string
		for imp := range uses[k] {
			path := imp[strings.Index(imp, `"`):]
			switch {
			case strings.HasPrefix(path, `"warthesis/`):
				own = append(own, imp)
			case strings.Contains(strings.Split(path, "/")[0], "."):
				ext = append(ext, imp)
			default:
				std = append(std, imp)
			}
		}
		text := ""
		if room == "" {
			text = headers[name]
		}
		text += "package " + pkgName(room) + "\n\nimport (\n"
		for _, g := range [][]string{std, ext, own} {
			sort.Slice(g, func(i, j int) bool { return g[i][strings.Index(g[i], `"`):] < g[j][strings.Index(g[j], `"`):] })
			for _, imp := range g {
				text += "\t" + imp + "\n"
			}
			if len(g) > 0 {
				text += "\n"
			}
		}
		text += ")\n" + out[k].String()
		raw, err := format.Source([]byte(text))
		if err != nil {
			log.Println(k, err)
			raw = []byte(text)
		}
		at := filepath.Join(dir, room, name)
		os.MkdirAll(filepath.Dir(at), 0o755)
		if err := os.WriteFile(at, raw, 0o644); err != nil {
			log.Fatal(err)
		}
	}
}

func pathOf(room string) string {
	if room == "" {
		return ""
	}
	return "/" + room
}

func specNames(s ast.Spec) []*ast.Ident {
	switch x := s.(type) {
	case *ast.TypeSpec:
		return []*ast.Ident{x.Name}
	case *ast.ValueSpec:
		return x.Names
	}
	return nil
}

func importLine(pn *types.PkgName) string {
	path := pn.Imported().Path()
	if pn.Name() != pn.Imported().Name() {
		return fmt.Sprintf("%s %q", pn.Name(), path)
	}
	return fmt.Sprintf("%q", path)
}
