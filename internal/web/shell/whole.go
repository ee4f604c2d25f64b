package shell

import (
	"fmt"
	"html/template"
	"io/fs"
	"slices"
	"strings"
	"text/template/parse"
)

// define parses templates of a folder into t. A name that t has already is an error: the later would take the place of the
// earlier without a word.
func define(t *template.Template, files fs.FS, names ...string) (*template.Template, error) {
	for _, name := range names {
		src, err := fs.ReadFile(files, name)
		if err != nil {
			return nil, err
		}
		trees := map[string]*parse.Tree{}
		p := parse.New(name)
		p.Mode = parse.SkipFuncCheck
		if _, err := p.Parse(string(src), "", "", trees); err != nil {
			return nil, err
		}
		for of := range trees {
			if was := t.Lookup(of); of != name && was != nil && was.Tree != nil {
				return nil, fmt.Errorf("two templates are called %q, one in %s", of, name)
			}
		}
		if t, err = t.New(name).Parse(string(src)); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// lacking is the names of templates that others of t ask for and nobody defines: it would be known only when a page is shown.
func lacking(t *template.Template) (names []string) {
	for _, x := range t.Templates() {
		if x.Tree == nil || x.Tree.Root == nil {
			continue
		}
		asks(x.Tree.Root, func(name string) {
			if y := t.Lookup(name); (y == nil || y.Tree == nil) && !slices.Contains(names, name) {
				names = append(names, name)
			}
		})
	}
	slices.Sort(names)
	return names
}

// asks tells the names of templates that a node asks for.
func asks(n parse.Node, tell func(name string)) {
	branch := func(b *parse.BranchNode) {
		asks(b.List, tell)
		if b.ElseList != nil {
			asks(b.ElseList, tell)
		}
	}
	switch n := n.(type) {
	case *parse.ListNode:
		for _, x := range n.Nodes {
			asks(x, tell)
		}
	case *parse.IfNode:
		branch(&n.BranchNode)
	case *parse.RangeNode:
		branch(&n.BranchNode)
	case *parse.WithNode:
		branch(&n.BranchNode)
	case *parse.TemplateNode:
		tell(n.Name)
	}
}

// whole is an error where templates ask for ones that nobody defines.
func whole(t *template.Template) error {
	if names := lacking(t); len(names) > 0 {
		return fmt.Errorf("no template is called %s", strings.Join(names, ", "))
	}
	return nil
}
