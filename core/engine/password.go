package engine

import (
	"crypto/sha256"
	"encoding/base64"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/bcrypt"

	"kibitz/core/request"
)

// passwordCache remembers whether a password fits a hash, since a good hash is
// slow on purpose. It keeps no password, only what SHA-256 makes of one.
type passwordCache struct {
	mu       sync.Mutex
	verified map[[32]byte]bool
}

const maxPasswords = 10_000

// check gives the name that a request's Authorization field proves (RFC 7617).
func (c *passwordCache) check(req *request.Request, accounts map[string]string) (string, bool) {
	field, _ := req.Get("authorization")
	scheme, coded, ok := strings.Cut(field, " ")
	if !ok || !strings.EqualFold(scheme, "basic") {
		return "", false
	}
	credentials, err := base64.StdEncoding.DecodeString(strings.TrimSpace(coded))
	if err != nil {
		return "", false
	}
	name, password, ok := strings.Cut(string(credentials), ":")
	hash, known := accounts[name]
	if !ok || len(accounts) == 0 {
		return "", false
	}
	if !known { // it takes as long as for one who is known
		hash = accounts[slices.Min(slices.Collect(maps.Keys(accounts)))]
	}
	key := sha256.Sum256([]byte(hash + "\x00" + password))
	c.mu.Lock()
	fits, seen := c.verified[key]
	c.mu.Unlock()
	if !seen {
		fits = bcrypt.CompareHashAndPassword([]byte(hash), []byte(password)) == nil
		c.mu.Lock()
		if c.verified == nil || len(c.verified) >= maxPasswords {
			c.verified = map[[32]byte]bool{}
		}
		c.verified[key] = fits
		c.mu.Unlock()
	}
	return name, fits && known
}
