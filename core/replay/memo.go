package replay

// What is remembered of requests that were met before, where each of them is wanted by itself
// and not only their sums. As on the fast path, the key is made from what the engine says
// that answers depend on; but the whole address is in it, so that Locations are right, too.

import (
	"encoding/binary"
	"math"
	"strings"

	"kibitz/core/browser"
	"kibitz/core/engine"
	"kibitz/core/request"
)

// A keyer makes the keys of requests for one engine. It is for one goroutine.
type keyer struct {
	engine *engine.Engine
	hosts  map[string]*hostKeys
}

// hostKeys are for the requests to one host.
type hostKeys struct {
	*engine.Inputs
	beside besides           // of which the values count, since they may be copied; else nil
	agents map[string]string // the classes of agents, by what they send
}

func newKeyer(e *engine.Engine) *keyer { return &keyer{e, map[string]*hostKeys{}} }

func (k *keyer) of(host string) *hostKeys {
	h := k.hosts[host]
	if h == nil {
		if len(k.hosts) >= maxHosts {
			clear(k.hosts)
		}
		h = &hostKeys{Inputs: k.engine.Inputs(host), agents: map[string]string{}}
		if h.Copies || h.Header {
			h.beside = besideOf(h.Inputs)
		}
		k.hosts[host] = h
	}
	return h
}

// What is remembered by one goroutine is bounded: how many hosts and answers, and how long
// requests are, in bytes, and agents.
const (
	maxHosts  = 1 << 10
	maxMemo   = 1 << 13
	maxAsked  = 1 << 11
	maxNaming = 1 << 9
)

// append adds the key of a request: two with the same key have the same answers at each hop
// of their visits. It is not ok where the answer must not be remembered.
func (k *keyer) append(key []byte, req *request.Request) (_ []byte, ok bool) {
	h := k.of(req.Address.Host)
	size := len(req.Address.Path) + len(req.Address.Query)
	for i := range req.Headers {
		size += len(req.Headers[i].Value)
	}
	if req.Body > 0 || size > maxAsked {
		return key, false
	}
	key = appendText(key, req.Verb())
	key = appendAddress(key, &req.Address)
	for i := range req.Headers {
		f := &req.Headers[i]
		name := strings.ToLower(f.Name)
		if name == agent.Name && h.Headers == math.MaxInt64 || !h.Matters(name) {
			continue
		}
		key = appendText(appendText(key, name), f.Value)
	}
	key = append(key, 0)
	for i := range h.Texts {
		if t := &h.Texts[i]; t.Field == agent {
			key = append(key, h.agent(t, req)...)
		}
	}
	for _, c := range h.Clients {
		class := c.Of(req.Client)
		key = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(key, class.ID), class.Entry)
	}
	if len(h.Times) > 0 {
		key = engine.HoldAt(h.Times, req.Time, key)
	}
	return h.beside.append(key, req), true
}

// appendAddress adds all parts of an address.
func appendAddress(key []byte, a *request.Address) []byte {
	key = appendText(appendText(key, a.Scheme), a.Host)
	key = appendText(binary.AppendUvarint(key, uint64(a.Port)), a.Path)
	if a.HasQuery {
		key = appendText(append(key, '?'), a.Query)
	}
	return appendText(append(key, '#'), a.Fragment)
}

// appendText adds a text, with its length before it: whatever is in it, no other texts look
// like it.
func appendText(key []byte, text string) []byte {
	return append(binary.AppendUvarint(key, uint64(len(text))), text...)
}

func (h *hostKeys) agent(t *engine.Texts, req *request.Request) string {
	text, present := req.Get(t.Field.Name)
	if !present {
		return string(t.Append(nil, "", false))
	}
	if len(text) > maxNaming {
		return string(t.Append([]byte{1}, text, true))
	}
	class, ok := h.agents[text]
	if !ok {
		if len(h.agents) >= maxMemo {
			clear(h.agents)
		}
		class = string(t.Append([]byte{1}, text, true))
		h.agents[text] = class
	}
	return class
}

// A memo remembers the answers to requests, and the visits that they begin. It is for one
// goroutine.
type memo struct {
	*keyer
	forget  bool // it remembers nothing
	answers map[string]*remembered
	robots  map[string]bool // by their names
	key     []byte
}

// isRobot is VisitorOf, for whether an agent is a robot.
func (m *memo) isRobot(agent string, words []string) bool {
	if len(agent) > maxNaming {
		return VisitorOf(agent, words) == Robots
	}
	robot, known := m.robots[agent]
	if !known {
		if len(m.robots) >= maxHosts {
			clear(m.robots)
		}
		robot = VisitorOf(agent, words) == Robots
		m.robots[strings.Clone(agent)] = robot
	}
	return robot
}

type remembered struct {
	response *engine.Response
	visit    *browser.Visit
	said     any // as Result.Said
}

func newMemo(e *engine.Engine, forget bool) *memo {
	return &memo{keyer: newKeyer(e), forget: forget, answers: map[string]*remembered{}, robots: map[string]bool{}}
}

// trim forgets all answers if they are many. It is called between runs of requests, so that in
// each of them like requests have the same answer.
func (m *memo) trim() {
	if len(m.answers) > maxMemo {
		clear(m.answers)
	}
}

// predict is answer, for all requests of a memo with or without the header. What it gives
// must not be changed.
func (m *memo) predict(req *request.Request, light bool) *remembered {
	var ok bool
	m.key, ok = m.append(m.key[:0], req)
	ok = ok && !m.forget
	if a := m.answers[string(m.key)]; ok && a != nil {
		return a
	}
	a := &remembered{}
	if a.response, a.visit = answer(m.engine, req, light); ok {
		m.answers[string(m.key)] = a
	}
	return a
}
