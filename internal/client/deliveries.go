package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"nurvik/internal/api"
)

// partSize is how large the client makes parts, in bytes: a few seconds over a slow line.
const partSize = 2 << 20

// finishTries is how often an answer to the end of a delivery is waited for, which takes minutes for a million files.
const finishTries = 10

// patience is how often, and with which pauses, a part is sent again.
var patience = []time.Duration{time.Second, 3 * time.Second, 10 * time.Second, 30 * time.Second}

// deliver sends lines in parts and has them taken. What a call before has sent
// of the same is not sent again; a part that fails on the way is.
func (c *Client) deliver(ctx context.Context, start api.DeliveryStart, lines iter.Seq[any],
	sent func(lines int)) (result api.DeliveryResult, err error) {
	digest, count, err := digestOf(start, lines)
	if err != nil {
		return result, err
	}
	start.Digest = digest
	var d api.Delivery
	err = c.patiently(ctx, func() error { return c.call(ctx, http.MethodPost, "/deliveries", start, &d) })
	if err != nil {
		return result, err
	}
	at := "/deliveries/" + strconv.FormatInt(d.ID, 10)
	number, total := 0, 0
	for part, err := range partsOf(lines) {
		if err != nil {
			return result, err
		}
		if number, total = number+1, total+part.lines; number >= d.NextPart {
			if err := c.patiently(ctx, func() error { return c.sendPart(ctx, at, number, part.data) }); err != nil {
				return result, err
			}
		}
		if sent != nil {
			sent(total)
		}
	}
	for try := 1; ; try++ { // asked again, the service answers with what has become of it
		err := c.patiently(ctx, func() error {
			return c.call(ctx, http.MethodPost, at+"/finish", api.DeliveryFinish{Lines: count}, &result)
		})
		var timeout interface{ Timeout() bool }
		if try == finishTries || !errors.As(err, &timeout) || !timeout.Timeout() || ctx.Err() != nil {
			return result, err
		}
	}
}

// statusGone is what a service answers that took us for gone; above it, it failed.
const statusGone = 499

// patiently tries again where the service does not answer, or is busy.
func (c *Client) patiently(ctx context.Context, do func() error) error {
	for _, pause := range patience {
		err := do()
		var p *Problem
		if err == nil || ctx.Err() != nil || errors.As(err, &p) && p.Status < statusGone &&
			p.Status != http.StatusTooManyRequests {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
	return do()
}

func (c *Client) sendPart(ctx context.Context, at string, number int, data []byte) error {
	response, err := c.send(ctx, http.MethodPut, at+"/parts/"+strconv.Itoa(number), api.PartMedia, data)
	if err != nil {
		return err
	}
	return response.Body.Close()
}

type part struct {
	data  []byte
	lines int
}

// partsOf makes parts of lines: the same ones each time.
func partsOf(lines iter.Seq[any]) iter.Seq2[part, error] {
	return func(yield func(part, error) bool) {
		var now part
		for value := range lines {
			line, err := json.Marshal(value)
			if err == nil && len(line) >= api.MaxPart {
				err = fmt.Errorf("one line has %d MiB, and the service takes %d: leave that file out", len(line)>>20,
					api.MaxPart>>20)
			}
			if err != nil {
				yield(part{}, err)
				return
			}
			if now.lines > 0 && len(now.data)+len(line) >= partSize {
				if !yield(now, nil) {
					return
				}
				now = part{}
			}
			now.data, now.lines = append(append(now.data, line...), '\n'), now.lines+1
		}
		if now.lines > 0 {
			yield(now, nil)
		}
	}
}

// digestOf is the digest of all that is sent, and the number of lines.
func digestOf(start api.DeliveryStart, lines iter.Seq[any]) (string, int, error) {
	h := sha256.New()
	count := 0
	if err := json.NewEncoder(h).Encode(start); err != nil {
		return "", 0, err
	}
	for p, err := range partsOf(lines) {
		if err != nil {
			return "", 0, err
		}
		_, _ = h.Write(p.data) // a hash never fails
		count += p.lines
	}
	return hex.EncodeToString(h.Sum(nil)), count, nil
}

// Import takes in an estate.
func (c *Client) Import(ctx context.Context, e api.EstateImport) (api.Imported, error) {
	result, err := c.deliver(ctx, api.DeliveryStart{Kind: "estate", Estate: &api.EstateDelivery{Replace: e.Replace}},
		func(yield func(any) bool) {
			for i := range e.Stores {
				if !yield(api.EstateLine{Store: &e.Stores[i]}) {
					return
				}
			}
			for i := range e.Policies {
				if !yield(api.EstateLine{Policy: &e.Policies[i]}) {
					return
				}
			}
			for i := range e.Endpoints {
				if !yield(api.EstateLine{Endpoint: &e.Endpoints[i]}) {
					return
				}
			}
		}, nil)
	if err != nil || result.Imported == nil {
		return api.Imported{}, err
	}
	return *result.Imported, nil
}

// SendHolding sends the facts of what a machine holds; they take the place of
// those that were sent before under its name. They are judged soon after. sent,
// where it is not nil, is told how many files were sent so far.
func (c *Client) SendHolding(ctx context.Context, f api.HoldingFacts, sent func(files int)) (api.Holding, error) {
	h, _, err := c.SendChanges(ctx, f, sent)
	return h, err
}

// SendChanges is SendHolding, and tells how many files are not there as they were: of the others only that is sent.
func (c *Client) SendChanges(ctx context.Context, f api.HoldingFacts, sent func(files int)) (h api.Holding,
	changed int, err error) {
	known, err := c.holdingDigests(ctx, f.Name)
	if err != nil {
		return h, 0, err
	}
	if h, changed, err = c.sendChanged(ctx, f, known, sent); len(known) > 0 && isConflict(err) {
		// somebody else sent meanwhile, or the holding was removed
		h, changed, err = c.sendChanged(ctx, f, nil, sent)
	}
	return h, changed, err
}

func (c *Client) sendChanged(ctx context.Context, f api.HoldingFacts, known map[string]string,
	sent func(files int)) (h api.Holding, changed int, err error) {
	same := make([]bool, len(f.Files))
	for i := range f.Files {
		if digest := known[f.Files[i].Path]; digest != "" {
			line, err := json.Marshal(&f.Files[i])
			if err != nil {
				return h, 0, err
			}
			sum := sha256.Sum256(line)
			same[i] = hex.EncodeToString(sum[:]) == digest
		}
		if !same[i] {
			changed++
		}
	}
	result, err := c.deliver(ctx, api.DeliveryStart{Kind: "holding", Holding: &f.HoldingHeader},
		func(yield func(any) bool) {
			for i := range f.Files {
				var line any = &f.Files[i]
				if path := f.Files[i].Path; same[i] {
					line = api.SameFile{Path: path, Same: known[path]}
				}
				if !yield(line) {
					return
				}
			}
		}, sent)
	if err != nil || result.Holding == nil {
		return h, changed, err
	}
	return *result.Holding, changed, nil
}

func isConflict(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status == http.StatusConflict
}

// holdingDigests are the digests of the lines by which the files of a holding were sent, by path; none where there is
// no such holding.
func (c *Client) holdingDigests(ctx context.Context, name string) (map[string]string, error) {
	var list []api.Holding
	err := c.patiently(ctx, func() (err error) {
		list, err = c.Holdings(ctx)
		return err
	})
	i := slices.IndexFunc(list, func(h api.Holding) bool { return h.Name == name })
	if err != nil || i < 0 {
		return nil, err
	}
	out := map[string]string{}
	for cursor, more := "", true; more; more = cursor != "" {
		var page api.HoldingDigestPage
		query := url.Values{"limit": {"10000"}}
		if cursor != "" {
			query.Set("cursor", cursor)
		}
		err := c.patiently(ctx, func() error {
			at := "/holdings/" + strconv.FormatInt(list[i].ID, 10) + "/digests?" + query.Encode()
			return c.call(ctx, http.MethodGet, at, nil, &page)
		})
		var p *Problem
		if errors.As(err, &p) && p.Status == http.StatusNotFound { // removed meanwhile
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		for _, d := range page.Items {
			out[d.Path] = d.Digest
		}
		cursor = page.Next
	}
	return out, nil
}
