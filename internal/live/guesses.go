package live

// How often a client may guess passwords.

import (
	"net/netip"
	"sync"
	"time"
)

const (
	mostGuesses = 10          // wrong passwords, until a client has to wait
	guessPause  = time.Minute // for so long after the last of them
	mostClients = 10_000      // that are remembered
)

// guesses counts the wrong passwords of each client.
type guesses struct {
	mu       sync.Mutex
	byClient map[netip.Addr]guess
}

type guess struct {
	wrong int
	last  time.Time
}

// wrong notes a wrong password.
func (g *guesses) wrong(client netip.Addr, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.byClient == nil || len(g.byClient) >= mostClients {
		g.byClient = map[netip.Addr]guess{}
	}
	n := g.byClient[client].wrong
	if now.Sub(g.byClient[client].last) > guessPause {
		n = 0
	}
	g.byClient[client] = guess{n + 1, now}
}

// tooMany reports whether a client has to wait.
func (g *guesses) tooMany(client netip.Addr, now time.Time) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	known := g.byClient[client]
	return known.wrong >= mostGuesses && now.Sub(known.last) <= guessPause
}
