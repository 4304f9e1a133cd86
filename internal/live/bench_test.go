package live

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
)

// What an answer costs, beside what net/http needs to read a request and write an answer.
func BenchmarkServe(b *testing.B) {
	e, _ := demoEngine(b)
	s := NewServer(e)
	s.local = []origin{{"http", "127.0.0.1", 8080}}
	for name, path := range map[string]string{"page": "/timetables/winter/", "redirect": "/fares.php", "missing": "/nowhere"} {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			r := httptest.NewRequest("GET", "http://127.0.0.1:8080"+path, nil)
			r.RequestURI = path
			for b.Loop() {
				s.ServeHTTP(discard{http.Header{}}, r)
			}
		})
	}
}

type discard struct{ header http.Header }

func (d discard) Header() http.Header         { return d.header }
func (d discard) Write(b []byte) (int, error) { return io.Discard.Write(b) }
func (d discard) WriteHeader(int)             {}
