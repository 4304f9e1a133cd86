package live

import (
	"fmt"
	"net/http"
	"testing"

	"kibitz/core/engine"
	"kibitz/core/request"
	"kibitz/core/site"
)

// The size of an answer is held against the prediction where both are of the same file,
// as it is, and have a body.
func TestWhichSizesAreCompared(t *testing.T) {
	file := &site.Node{}
	for _, test := range []struct {
		method         string
		file           *site.Node
		encoding, sent string // as predicted, and as it came
		predicted, got int64
		want           string
	}{
		{"GET", file, "", "", 10, 10, "[]"},
		{"GET", file, "", "", 10, 11, "[{size  10 11}]"},
		{"POST", file, "", "", 0, 1, "[{size  0 1}]"},
		{"HEAD", file, "", "", 10, 0, "[]"},
		{"HEAD", file, "gzip", "", 10, 0, "[]"},
		{"GET", nil, "", "", 10, 11, "[]"},
		{"GET", file, "", "", -1, 11, "[]"}, // it is not known
		{"GET", file, "gzip", "gzip", 10, 11, "[]"},
		{"GET", file, "gzip", "", 10, 11, "[{encoding  gzip }]"},
		{"GET", file, "", "br", 10, 11, "[{encoding   br}]"},
	} {
		v := &verifier{asker: newAsker(Options{Aspects: Aspects})}
		got := &http.Response{StatusCode: 200, Header: http.Header{}}
		if test.sent != "" {
			got.Header.Set("Content-Encoding", test.sent)
		}
		r := &Verified{Predicted: &engine.Response{Status: 200, File: test.file, Encoding: test.encoding, Encoded: test.predicted}, Got: got, Size: test.got}
		if out := fmt.Sprint(v.compare(&request.Request{Method: test.method}, r)); out != test.want {
			t.Errorf("%+v: %s", test, out)
		}
	}
}
