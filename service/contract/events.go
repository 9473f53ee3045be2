package contract

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// StreamEvent is one event of a record's stream.
type StreamEvent struct {
	ID   int64
	Kind string
	Data []byte
}

// ErrStreamRefused is returned when the service does not open a stream.
var ErrStreamRefused = errors.New("the service does not open the stream")

// Follow calls each for every event of a stream until the event "end" has come,
// each returns an error, or ctx ends. A stream that breaks off is taken up again
// after the last event that came, for as long as patience.
func Follow(ctx context.Context, client *http.Client, url string, after int64, sign func(*http.Request), patience time.Duration, each func(StreamEvent) error) error {
	last := after
	lost := time.Time{}
	for {
		before := last
		ended, err := follow(ctx, client, url, sign, &last, each)
		if last > before {
			lost = time.Time{} // it was there meanwhile
		}
		if ended || ctx.Err() != nil || errors.Is(err, ErrStreamRefused) {
			return err
		}
		var stop stopped
		if errors.As(err, &stop) {
			return stop.error
		}
		if lost.IsZero() {
			lost = time.Now()
		}
		if time.Since(lost) > patience {
			return fmt.Errorf("the service has been away for %s: %w", patience, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

type stopped struct{ error }

func follow(ctx context.Context, client *http.Client, url string, sign func(*http.Request), last *int64, each func(StreamEvent) error) (bool, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return true, err
	}
	sign(req)
	req.Header.Set("Accept", "text/event-stream")
	if *last > 0 {
		req.Header.Set("Last-Event-ID", strconv.FormatInt(*last, 10))
	}
	res, err := client.Do(req)
	if err != nil {
		return false, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		b, err := io.ReadAll(io.LimitReader(res.Body, 4096))
		if err != nil {
			return false, err
		}
		if res.StatusCode >= 500 {
			return false, fmt.Errorf("the service answered %s", res.Status)
		}
		return true, fmt.Errorf("%w: %s: %s", ErrStreamRefused, res.Status, b)
	}
	var e StreamEvent
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(make([]byte, 64<<10), 16<<20)
	for lines.Scan() {
		key, value, _ := strings.Cut(lines.Text(), ": ")
		switch key {
		case "id":
			if e.ID, err = strconv.ParseInt(value, 10, 64); err != nil {
				return false, fmt.Errorf("the stream has an event without a number: %w", err)
			}
		case "event":
			e.Kind = value
		case "data":
			e.Data = append(e.Data, value...)
		case "":
			if lines.Text() == "" && e.ID > 0 {
				*last = e.ID
				if err := each(e); err != nil {
					return false, stopped{err}
				}
				if e.Kind == "end" {
					return true, nil
				}
				e = StreamEvent{}
			}
		}
	}
	if err := lines.Err(); err != nil {
		return false, err
	}
	return false, io.ErrUnexpectedEOF
}
