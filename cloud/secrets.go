package cloud

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"isonomos/core/mask"
)

// A discreet transport takes the secrets that were sent out of whatever a server answers.
type discreet struct {
	http.RoundTripper
	mask.Masker
}

// RoundTrip sends a request and masks the answer: its body, its headers, or the error.
func (d *discreet) RoundTrip(r *http.Request) (*http.Response, error) {
	_, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	d.Learn(token, r.Header.Get("X-Auth-Token"))
	answer, err := d.RoundTripper.RoundTrip(r)
	if err != nil {
		if clean := d.Mask([]byte(err.Error()), true); string(clean) != err.Error() {
			err = errors.New(string(clean))
		}
		return nil, err
	}
	for name, values := range answer.Header {
		for i, v := range values {
			if name != "X-Subject-Token" { // where the identity service gives a new one
				values[i] = string(d.Mask([]byte(v), true))
			}
		}
	}
	answer.Status = string(d.Mask([]byte(answer.Status), true))
	answer.Body = &maskedBody{from: answer.Body, by: &d.Masker, refused: answer.StatusCode >= 300}
	answer.ContentLength = -1
	return answer, nil
}

// errTooLong says that an answer has more than mostBody bytes.
var errTooLong = fmt.Errorf("the answer is longer than %d MB", mostBody>>20)

// A maskedBody is a body that is read whole, up to the size that an answer may have, and masked.
type maskedBody struct {
	from    io.ReadCloser
	by      *mask.Masker
	refused bool
	text    *bytes.Reader // nil until it is read
	err     error         // how reading it ended
}

func (b *maskedBody) Read(into []byte) (int, error) {
	if b.text == nil {
		text, err := io.ReadAll(io.LimitReader(b.from, mostBody+1))
		b.err = err
		if err == nil {
			b.err = io.EOF
		}
		if len(text) > mostBody {
			text, b.err = nil, errTooLong
		}
		b.text = bytes.NewReader(b.by.Mask(text, b.refused))
	}
	n, err := b.text.Read(into)
	if err != nil {
		err = b.err
	}
	return n, err
}

func (b *maskedBody) Close() error { return b.from.Close() }
