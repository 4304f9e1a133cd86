module kibitz

go 1.26.8

require (
	github.com/andybalholm/brotli v1.2.8
	github.com/aymanbagabas/go-udiff v0.4.1
	github.com/fsnotify/fsnotify v1.10.1
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/klauspost/compress v1.20.3
	github.com/nlnwa/whatwg-url v0.6.2
	github.com/rivo/uniseg v0.4.7
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/sourcegraph/jsonrpc2 v0.2.3
	github.com/tdewolff/parse/v2 v2.8.20
	golang.org/x/crypto v0.58.0
	golang.org/x/net v0.62.0
	golang.org/x/sync v0.24.0
	golang.org/x/term v0.47.0
	golang.org/x/time v0.16.0
	golang.org/x/tools v0.51.0
)

require github.com/yuin/goldmark v1.8.7

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/bits-and-blooms/bitset v1.20.0 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.41.0 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/text v0.43.0
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
