package site

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"kibitz/core/canonical"
)

// Inventory reads a tree from a listing: a CSV with the heading
// path,size,modified,hash (the last two may be left out), one path a row, a
// folder with a slash at its end. Times are RFC 3339. The errors name the line;
// all of them are given at once.
func Inventory(text []byte) (*Tree, error) {
	rows := csv.NewReader(bytes.NewReader(text))
	rows.FieldsPerRecord = -1
	rows.ReuseRecord = true
	heading, err := rows.Read()
	if err != nil {
		return nil, errors.New("the inventory is empty: its first row is path,size,modified,hash")
	}
	heading[0] = strings.TrimPrefix(heading[0], "\ufeff")
	names := slices.Clone(heading)
	known := []string{"path", "size", "modified", "hash"}
	if len(names) < 2 || len(names) > len(known) || !slices.Equal(names, known[:len(names)]) {
		return nil, fmt.Errorf("1: the first row of an inventory is path,size or path,size,modified,hash, not %s", strings.Join(names, ","))
	}
	t := newTree(min(bytes.Count(text, []byte("\n")), maxRoom))
	var problems []error
	for {
		row, err := rows.Read()
		if err == io.EOF {
			break
		}
		if bad, ok := errors.AsType[*csv.ParseError](err); ok {
			problems = append(problems, fmt.Errorf("%d: %w", bad.Line, bad.Err))
			continue
		}
		if err != nil {
			return nil, err
		}
		line, _ := rows.FieldPos(0)
		n, err := inventoryRow(row)
		if err == nil && n.Path != "" {
			err = t.add(n)
		}
		if err != nil {
			problems = append(problems, fmt.Errorf("%d: %w", line, err))
		}
	}
	if problems != nil {
		return nil, errors.Join(problems...)
	}
	t.sort()
	return t, nil
}

// maxRoom is for how many rows room is made before they are read: not all lines need be rows.
const maxRoom = 1 << 20

// maxDeep is how deep a tree can be.
const maxDeep = 1000

func inventoryRow(row []string) (*Node, error) {
	name := row[0]
	if !strings.HasPrefix(name, "/") {
		return nil, fmt.Errorf("a path begins with a slash: write /%s", name)
	}
	if strings.Count(name, "/") > maxDeep {
		return nil, fmt.Errorf("a path has at most %d folders", maxDeep)
	}
	n := &Node{Folder: strings.HasSuffix(name, "/")}
	for _, segment := range strings.Split(strings.Trim(name, "/"), "/") {
		if segment == "." || segment == ".." || segment == "" && strings.Trim(name, "/") != "" {
			return nil, fmt.Errorf("%q is not a path in a tree", name)
		}
	}
	n.Path = canonical.Spell(strings.TrimRight(name, "/"))
	field := func(i int) string {
		if i < len(row) {
			return row[i]
		}
		return ""
	}
	var err error
	if s := field(1); s != "" || !n.Folder {
		if n.Size, err = strconv.ParseInt(s, 10, 64); err != nil || n.Size < 0 {
			return nil, fmt.Errorf("the size %q is not a number of bytes", s)
		}
	}
	if s := field(2); s != "" {
		if n.Modified, err = time.Parse(time.RFC3339, s); err != nil {
			return nil, fmt.Errorf("the time %q is not of the form 2026-03-01T08:00:00Z", s)
		}
		n.Modified = n.Modified.UTC()
	}
	n.Hash = strings.Clone(field(3))
	return n, nil
}

// WriteInventory writes the tree as Inventory reads it, with the hash that hash
// gives of each file.
func WriteInventory(w io.Writer, t *Tree, hash func(*Node) (string, error)) error {
	out := csv.NewWriter(w)
	out.Write([]string{"path", "size", "modified", "hash"})
	var failed error
	t.Each(func(n *Node) {
		row := []string{canonical.Decode(n.Path), "", "", ""}
		switch {
		case n.Folder && (len(n.Children) > 0 || n.Path == ""):
			return // follows from its files
		case n.Folder:
			row[0] += "/"
		default:
			row[1] = strconv.FormatInt(n.Size, 10)
			h, err := hash(n)
			if err != nil {
				failed = errors.Join(failed, err)
			}
			row[3] = h
		}
		if !n.Modified.IsZero() {
			row[2] = n.Modified.Format(time.RFC3339Nano)
		}
		out.Write(row)
	})
	out.Flush()
	return errors.Join(failed, out.Error())
}
