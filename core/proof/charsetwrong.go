package proof

import (
	"fmt"
	"strings"

	"kibitz/core/representation"
	"kibitz/core/request"
	"kibitz/core/site"
)

func init() {
	register(30, Kind{
		Name: "charset-wrong", Severity: Note,
		Summary: "a text is not UTF-8, and its charset is not said, or said wrongly",
		Before:  "redirect old on /fares.php to /fares/ as permanent          # and /old/prices.txt is not UTF-8",
		After:   "media old in /old/ charset windows-1252",
		find:    findWrongCharsets,
	})
}

// maxTexts is how many files of a tree are looked into.
const maxTexts = 20_000

// findWrongCharsets asks for each text of the trees, and looks at how it begins.
func findWrongCharsets(c *checker) {
	for _, s := range c.treeSites() {
		c.noteSite(Proved, s, "")
		var wrong []*site.Node
		var first *request.Request
		declared := ""
		c.Tree(s).Each(func(n *site.Node) {
			if n.Folder || n.Hidden || !strings.HasPrefix(representation.Extensions[extensionOf(n)], "text/") {
				return
			}
			if c.tried++; c.tried > maxTexts {
				c.noteSite(Tried, s, fmt.Sprintf("the first %d texts were looked into, up to 64 KiB", maxTexts))
				return
			}
			if c.IsUTF8(s, n) {
				return
			}
			req := c.homeRequest(s)
			req.Address.Path = n.Path
			resp := c.Predict(req)
			sent, _ := resp.Get("Content-Type")
			_, charset, said := strings.Cut(sent, "charset=")
			if resp.File != n || said && !strings.EqualFold(charset, "utf-8") {
				return
			}
			if wrong = append(wrong, n); first == nil {
				first, declared = req, charset
			}
		})
		if len(wrong) == 0 {
			continue
		}
		message := fmt.Sprintf("%s is not UTF-8, so it is sent without a charset, and each browser guesses.", wrong[0].Path)
		if declared != "" {
			message = fmt.Sprintf("%s is sent as %s, and is not: visitors see wrong letters.", wrong[0].Path, declared)
		}
		c.addOf(s, Finding{Request: first, Count: len(wrong),
			Message: message + further(len(wrong)-1, "So is one more file.", "So are %d more files."),
			Advice:  fmt.Sprintf("save it as UTF-8, or say what it is:   media old on %s charset windows-1252", wrong[0].Path)})
	}
	c.conclusions("for the tree as it is: each text was looked into, up to 64 KiB")
}

// extensionOf is the extension of a file, without its dot, in lower case.
func extensionOf(n *site.Node) string {
	name := lastSegment(n.Path)
	return strings.ToLower(name[strings.LastIndexByte(name, '.')+1:])
}
