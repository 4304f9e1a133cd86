// Kibitz predicts what a web site's redirects, rewrites, fallbacks, error pages
// and access rules do, before a visitor meets them.
package main

import (
	"os"

	"kibitz/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
