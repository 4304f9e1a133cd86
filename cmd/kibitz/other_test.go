//go:build !unix

package main

import "errors"

// pipe makes a named pipe, where there are any.
func pipe(string) error { return errors.ErrUnsupported }
