// Command words looks for words that users must not meet in texts of the product: in the
// string literals of Go files, and in the strings and the text of front-end files. Comments
// and tests are left out. It prints each with its place, and ends with 1 if there are any.
package main

import (
	"fmt"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// unplain are words that a network engineer would have to read twice, each with what to
// write instead.
var unplain = []struct {
	words   *regexp.Regexp
	instead string
}{
	{regexp.MustCompile(`(?i)\bmend(s|ed|ing)?\b`), "fix"},
	{regexp.MustCompile(`(?i)\bfar(es|ed|ing)\b|\bfare (differently|otherwise)\b`), "outcome changes"},
	{regexp.MustCompile(`(?i)\bspeaks? (of|about)\b|\bhas a say\b|\bpolicy speaks\b`), "refers to, matches"},
	{regexp.MustCompile(`(?i)\bways? (out|back|there)\b|\bon the way\b`), "path, return path, fixes"},
	{regexp.MustCompile(`(?i)\bleads? (nowhere|on to|there)\b`), "dead route, has a route to"},
	{regexp.MustCompile(`(?i)\blives? (in|nowhere)\b`), "is in, is not in"},
	{regexp.MustCompile(`(?i)\b(take|takes|taken) (it |them )?away\b`), "remove"},
	{regexp.MustCompile(`(?i)\bnobody\b|\bholds? nobody\b`), "matches no endpoints, has no members"},
	{regexp.MustCompile(`(?i)\bpast every\b|\bgoes? past\b`), "bypasses"},
	{regexp.MustCompile(`(?i)\bstands? within\b`), "is nested in"},
	{regexp.MustCompile(`(?i)\bnot well\b|\bsick\b`), "problem, unhealthy"},
	{regexp.MustCompile(`(?i)\bcannot be: `), "Refused:"},
	{regexp.MustCompile(`(?i)\bin reach\b`), "reachable"},
	{regexp.MustCompile(`(?i)\bso that it (is|be) meant\b|\bis meant\b|\bwhat is meant\b`), "intended"},
	{regexp.MustCompile(`(?i)\bread (it )?again\b|\bnever read\b`), "sync"},
	{regexp.MustCompile(`\b(Do it|Leave it|Mend it|Make it so)\b`), "the action's name, Cancel"},
}

func main() {
	found := 0
	for _, root := range os.Args[1:] {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !ours(path) {
				return err
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			each := goStrings
			if filepath.Ext(path) != ".go" {
				each = frontText
			}
			each(text, func(line int, said string) {
				for _, u := range unplain {
					if w := u.words.FindString(said); w != "" {
						fmt.Printf("%s:%d: %q; write: %s\n", path, line, w, u.instead)
						found++
					}
				}
			})
			return nil
		})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	}
	if found > 0 {
		os.Exit(1)
	}
}

// ours reports whether a file has texts that users meet.
func ours(path string) bool {
	name := filepath.Base(path)
	switch {
	case strings.Contains(path, "testing/"), strings.Contains(path, "node_modules/"), strings.Contains(path, "tools/words/"):
		return false
	case strings.Contains(name, "_test.go"), strings.Contains(name, ".test."), strings.Contains(name, ".gen."):
		return false
	}
	switch filepath.Ext(name) {
	case ".go", ".ts", ".tsx":
		return true
	}
	return false
}

// goStrings calls do with each string literal of a Go file.
func goStrings(text []byte, do func(line int, said string)) {
	files := token.NewFileSet()
	file := files.AddFile("", files.Base(), len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, 0)
	for {
		at, kind, literal := s.Scan()
		switch kind {
		case token.EOF:
			return
		case token.STRING:
			do(file.Line(at), literal)
		}
	}
}

// comment is one of a front-end file, which has no text with such marks in it but URLs.
var comment = regexp.MustCompile(`(?s)/\*.*?\*/|(^|[^:])//[^\n]*`)

// frontText calls do with each line of a front-end file, without comments.
func frontText(text []byte, do func(line int, said string)) {
	bare := comment.ReplaceAllFunc(text, func(c []byte) []byte {
		return []byte(strings.Repeat("\n", strings.Count(string(c), "\n")))
	})
	for i, line := range strings.Split(string(bare), "\n") {
		do(i+1, line)
	}
}
