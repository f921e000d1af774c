package web

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
	"nurvik/internal/service/secrets"
)

// Limits of the bodies of operations, in bytes. What is larger comes in parts.
const (
	usualBody = 64 << 10
	// largeBody is for a policy's text, for all names of an endpoint, and for lists of endpoints. It bounds what
	// checking costs too, since every defect is collected before the first few are told.
	largeBody = 512 << 10
	// resultBody is for all that a visit can bring: its certificates and hundreds of connections.
	resultBody = 16 << 20
)

// streamed marks operations that read their body themselves, line by line.
const streamed = "streamed"

// heavy marks operations of which only a few run at once; its value is their slot.
const heavy = "heavy"

// slot is a kind of heavy work.
type slot string

// The kinds of heavy work, with how many run at once: each takes memory and a
// connection to the database for longer than others.
const (
	parts     slot = "parts"     // a part holds its lines in memory
	finishes  slot = "finishes"  // a whole estate
	exports   slot = "exports"   // a whole estate
	histories slot = "histories" // many examinations of an endpoint
	streams   slot = "streams"   // of events, which last as long as an audit
	results   slot = "results"   // all facts of a visit
)

var slotSizes = map[slot]int{parts: 4, finishes: 2, exports: 2, histories: 4, streams: 100, results: 8}

// slotTime is how long a place is waited for.
const slotTime = 10 * time.Second

func newSlots() map[slot]chan struct{} {
	out := map[slot]chan struct{}{}
	for kind, size := range slotSizes {
		out[kind] = make(chan struct{}, size)
	}
	return out
}

// bounded refuses bodies that are too large or hold a private key before
// anything else reads them, and bounds how many heavy operations run at once.
func (s *server) bounded(ctx huma.Context, next func(huma.Context)) {
	operation := ctx.Operation()
	if kind, ok := operation.Metadata[heavy].(slot); ok {
		wait := time.NewTimer(slotTime)
		defer wait.Stop()
		select {
		case s.slots[kind] <- struct{}{}:
			defer func() { <-s.slots[kind] }()
		case <-ctx.Context().Done():
			return
		case <-wait.C:
			ctx.SetHeader("Retry-After", "5")
			_ = huma.WriteErr(s.api, ctx, http.StatusTooManyRequests,
				"the service is busy with as many requests of this kind as it takes at once; try again soon")
			return
		}
	}
	method := ctx.Method()
	if method == http.MethodGet || method == http.MethodHead || method == http.MethodDelete {
		_ = ctx.SetReadDeadline(time.Time{}) // nothing more is read
		next(ctx)
		return
	}
	if _, lines := operation.Metadata[streamed]; lines != (mediaType(ctx.Header("Content-Type")) == api.PartMedia) {
		_ = huma.WriteErr(s.api, ctx, http.StatusUnsupportedMediaType,
			"parts of deliveries are "+api.PartMedia+", and everything else is application/json")
		return
	} else if lines {
		next(ctx)
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(nil, io.NopCloser(ctx.BodyReader()), operation.MaxBodyBytes))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		_ = huma.WriteErr(s.api, ctx, http.StatusRequestEntityTooLarge,
			fmt.Sprintf("the request is larger than %d KiB, which is the most that this operation takes",
				operation.MaxBodyBytes>>10))
	case err != nil:
		_ = huma.WriteErr(s.api, ctx, http.StatusBadRequest, "the request was cut off")
	case secrets.InJSON(body):
		_ = huma.WriteErr(s.api, ctx, http.StatusBadRequest, secretReason)
	default:
		_ = ctx.SetReadDeadline(time.Time{}) // all is read, and the answer may take longer
		next(&bodyContext{ctx, bytes.NewReader(body)})
	}
}

// request is a huma.Context under a name that does not hide its method Context.
type request huma.Context

// bodyContext is a request whose body was read already.
type bodyContext struct {
	request
	body io.Reader
}

// BodyReader implements huma.Context.
func (c *bodyContext) BodyReader() io.Reader { return c.body }
