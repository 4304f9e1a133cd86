package cli

// What happens when the program is told to end.

import (
	"io"
	"os"
	"os/signal"
	"slices"
	"sync"
	"syscall"
)

// interrupts are the signals that end the program. The first lets the command at hand
// come to its end, the second ends it at once.
type interrupts struct {
	mu    sync.Mutex
	came  bool
	stops []*func() // what the command does then, in order
}

// listen waits for a signal. A command that has not said what to do then is ended, after
// leftover has removed what must not stay.
func (in *interrupts) listen(leftover func()) {
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		signal.Stop(signals)
		in.mu.Lock()
		in.came = true
		stops := in.stops
		in.mu.Unlock()
		if len(stops) == 0 {
			leftover()
			os.Exit(exitTrouble)
		}
		for _, stop := range stops {
			(*stop)()
		}
	}()
}

// whenInterrupted calls stop when the program is told to end, until done is called. What came
// first is called first: a reader ends when it is known already that this is not the end.
func (r *run) whenInterrupted(stop func()) (done func()) {
	in := r.interrupts
	in.mu.Lock()
	defer in.mu.Unlock()
	in.stops = append(slices.Clip(in.stops), &stop) // anew, since the old ones may be in use
	return func() {
		in.mu.Lock()
		defer in.mu.Unlock()
		in.stops = slices.DeleteFunc(slices.Clone(in.stops), func(other *func()) bool { return other == &stop })
	}
}

// interrupted reports whether the program has been told to end.
func (r *run) interrupted() bool {
	r.interrupts.mu.Lock()
	defer r.interrupts.mu.Unlock()
	return r.interrupts.came
}

// partly marks the head of a result that is not of all.
func (r *run) partly(partial bool) string {
	if !partial {
		return ""
	}
	return "   " + r.out.Bad("partial: not all was read")
}

// A stoppable is a list, which ends when the program is told to end, though nothing may
// come from standard input for long.
type stoppable struct {
	*io.PipeReader
	done func()
}

func (s stoppable) Close() error {
	s.done()
	return s.PipeReader.Close()
}

// stoppable makes a reader end when the program is told to end.
func (r *run) stoppable(in io.Reader) io.ReadCloser {
	to, from := io.Pipe()
	go func() {
		_, err := io.CopyBuffer(from, struct{ io.Reader }{in}, make([]byte, 256<<10))
		from.CloseWithError(err)
	}()
	return stoppable{to, r.whenInterrupted(func() { from.Close() })}
}
