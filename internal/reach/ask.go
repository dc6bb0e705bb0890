package reach

import (
	"errors"
	"io"
	"net/http"
	"time"
)

// bounded bounds what is read of an answer.
type bounded struct {
	http.RoundTripper
	most int64
}

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		res.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(res.Body, b.most), res.Body}
	}
	return res, err
}

// Asking is a client that waits so long at most for an answer, reads so many bytes of
// it, and goes to no other address than the one it asks: who is asked answers there.
func Asking(limit time.Duration, answerBytes int64) *http.Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext = Dial
	return &http.Client{Timeout: limit, Transport: bounded{transport, answerBytes}, CheckRedirect: func(*http.Request, []*http.Request) error {
		return errors.New("it sends elsewhere")
	}}
}
