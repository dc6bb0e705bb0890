// Command portserver is for measurements: a program on a port, which answers each
// request with a hundred bytes, and whoever asks it.
//
//	portserver ADDRESS                    answers
//	portserver ADDRESS HOST COOKIE        asks, and prints how many requests a second
//	                                      by 32 connections, and what one takes at the
//	                                      median in microseconds
package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
)

func main() {
	if len(os.Args) == 4 {
		if err := load(os.Args[1], os.Args[2], os.Args[3]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	text := []byte(strings.Repeat("six bells ", 10))
	if http.ListenAndServe(os.Args[1], http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(text) })) != nil {
		os.Exit(1)
	}
}

func load(to, host, cookie string) error {
	h := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", to)
	}}}
	one := func() error {
		r, err := http.NewRequest("GET", "http://"+host+"/", nil)
		if err != nil {
			return err
		}
		r.Header.Set("Cookie", cookie)
		res, err := h.Do(r)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		if err == nil && len(b) != 100 {
			err = fmt.Errorf("%d: %.200s", res.StatusCode, b)
		}
		return err
	}
	var times []time.Duration
	for range 3000 {
		began := time.Now()
		if err := one(); err != nil {
			return err
		}
		times = append(times, time.Since(began))
	}
	slices.Sort(times)
	const each, people = 700, 32
	began := time.Now()
	var wg sync.WaitGroup
	failed := make(chan error, people)
	for range people {
		wg.Go(func() {
			for range each {
				if err := one(); err != nil {
					failed <- err
					return
				}
			}
		})
	}
	wg.Wait()
	if len(failed) > 0 {
		return <-failed
	}
	fmt.Println(each*people/time.Since(began).Seconds(), float64(times[len(times)/2])/1e3)
	return nil
}
