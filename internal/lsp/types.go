package lsp

// The messages of the Language Server Protocol 3.17 that are used, as far as they are used.

import "encoding/json"

type position struct {
	Line      int `json:"line"`      // from 0
	Character int `json:"character"` // in UTF-16 code units
}

type span struct {
	Start position `json:"start"`
	End   position `json:"end"` // behind the last
}

type location struct {
	URI   string `json:"uri"`
	Range span   `json:"range"`
}

type textEdit struct {
	Range   span   `json:"range"`
	NewText string `json:"newText"`
}

type workspaceEdit struct {
	Changes         map[string][]textEdit `json:"changes,omitempty"`         // by URI
	DocumentChanges []any                 `json:"documentChanges,omitempty"` // in place of these, where a file is renamed: renameFile, documentEdit
}

type renameFile struct {
	Kind   string `json:"kind"`
	OldURI string `json:"oldUri"`
	NewURI string `json:"newUri"`
}

type documentEdit struct {
	TextDocument struct {
		URI     string `json:"uri"`
		Version *int   `json:"version"`
	} `json:"textDocument"`
	Edits []textEdit `json:"edits"`
}

type markup struct {
	Kind  string `json:"kind"`
	Value string `json:"value"`
}

func markdown(text string) markup { return markup{"markdown", text} }

type initializeParams struct {
	RootURI      string `json:"rootUri"`
	Capabilities struct {
		Workspace struct {
			CodeLens  refreshSupport `json:"codeLens"`
			InlayHint refreshSupport `json:"inlayHint"`
		} `json:"workspace"`
	} `json:"capabilities"`
}

type refreshSupport struct {
	RefreshSupport bool `json:"refreshSupport"`
}

type documentParams struct {
	TextDocument struct {
		URI string `json:"uri"`
	} `json:"textDocument"`
	Position position `json:"position"`
	Range    span     `json:"range"`   // of code actions and inlay hints
	NewName  string   `json:"newName"` // of a rename
	Context  struct {
		IncludeDeclaration bool `json:"includeDeclaration"` // of references
	} `json:"context"`
}

type openParams struct {
	TextDocument struct {
		URI     string `json:"uri"`
		Version int    `json:"version"`
		Text    string `json:"text"`
	} `json:"textDocument"`
}

type changeParams struct {
	TextDocument struct {
		URI     string `json:"uri"`
		Version int    `json:"version"`
	} `json:"textDocument"`
	ContentChanges []struct {
		Range *span  `json:"range"` // nil: the whole text
		Text  string `json:"text"`
	} `json:"contentChanges"`
}

type cancelParams struct {
	ID json.RawMessage `json:"id"`
}

type publishParams struct {
	URI         string       `json:"uri"`
	Version     int          `json:"version,omitempty"`
	Diagnostics []diagnostic `json:"diagnostics"`
}

type diagnostic struct {
	Range    span      `json:"range"`
	Severity int       `json:"severity"`
	Code     string    `json:"code"`
	Source   string    `json:"source"`
	Message  string    `json:"message"`
	Related  []related `json:"relatedInformation,omitempty"`
}

type related struct {
	Location location `json:"location"`
	Message  string   `json:"message"`
}

type hover struct {
	Contents markup `json:"contents"`
	Range    span   `json:"range"`
}

// The kinds of completion items that are used.
const (
	itemVariable  = 6
	itemProperty  = 10
	itemValue     = 12
	itemKeyword   = 14
	itemFile      = 17
	itemReference = 18
	itemFolder    = 19
)

type completionItem struct {
	Label    string    `json:"label"`
	Kind     int       `json:"kind"`
	Detail   string    `json:"detail,omitempty"`
	SortText string    `json:"sortText,omitempty"`
	TextEdit *textEdit `json:"textEdit,omitempty"`
}

type completionList struct {
	IsIncomplete bool             `json:"isIncomplete"`
	Items        []completionItem `json:"items"`
}

// The kinds of symbols that are used.
const (
	symbolNamespace = 3
	symbolClass     = 5
	symbolFunction  = 12
	symbolArray     = 18
)

type documentSymbol struct {
	Name           string           `json:"name"`
	Detail         string           `json:"detail,omitempty"`
	Kind           int              `json:"kind"`
	Range          span             `json:"range"`
	SelectionRange span             `json:"selectionRange"`
	Children       []documentSymbol `json:"children,omitempty"`
}

type foldingRange struct {
	StartLine int    `json:"startLine"`
	EndLine   int    `json:"endLine"`
	Kind      string `json:"kind,omitempty"`
}

type codeAction struct {
	Title       string        `json:"title"`
	Kind        string        `json:"kind"`
	Diagnostics []diagnostic  `json:"diagnostics,omitempty"`
	IsPreferred bool          `json:"isPreferred,omitempty"`
	Edit        workspaceEdit `json:"edit"`
}

type codeLens struct {
	Range   span    `json:"range"`
	Command command `json:"command"`
}

// A command with no name does nothing: it is there to be read.
type command struct {
	Title   string `json:"title"`
	Command string `json:"command"`
}

type inlayHint struct {
	Position    position `json:"position"`
	Label       string   `json:"label"`
	PaddingLeft bool     `json:"paddingLeft"`
	Tooltip     string   `json:"tooltip,omitempty"`
}
