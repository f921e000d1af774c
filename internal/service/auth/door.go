package auth

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"nurvik/internal/service/store"
)

// How long a sign-in lasts: unused, and at most. Who comes from an OpenID provider is asked for there every day, so
// that somebody who has left it has soon left here too.
const (
	idleTime    = 8 * time.Hour
	sessionTime = 7 * 24 * time.Hour
	openIDTime  = 12 * time.Hour
)

// touchTime is how exactly the last use of a session or token is kept; more often would be a write a request.
const touchTime = time.Minute

// Door finds out who sends a request: by a token, by the cookie of a session, or, in the demo, because it comes from
// this machine.
type Door struct {
	Store   *store.Store
	Now     func() time.Time
	LetIn   *Identity      // whom callers on this machine are taken for that show nothing; nil for nobody
	Proxies []netip.Prefix // whose word about the caller's address counts
	Secure  bool           // browsers reach the service by HTTPS alone

	mutex  sync.Mutex
	limits map[netip.Prefix]*rate.Limiter // of sign-ins by network
}

// Cookie is the name of the session's cookie. With the prefix browsers take it from HTTPS alone, for this host alone.
func (d *Door) Cookie() string {
	if d.Secure {
		return "__Host-nurvik"
	}
	return "nurvik"
}

// Identify says who sent a request; ErrUnknown for nobody that is known.
func (d *Door) Identify(r *http.Request) (Identity, error) {
	if header := r.Header.Get("Authorization"); header != "" {
		kind, token, _ := strings.Cut(header, " ")
		if !strings.EqualFold(kind, "Bearer") {
			return Identity{}, ErrUnknown
		}
		return d.byToken(r.Context(), strings.TrimSpace(token))
	}
	if cookie, err := r.Cookie(d.Cookie()); err == nil {
		identity, err := d.bySession(r.Context(), cookie.Value)
		if !errors.Is(err, ErrUnknown) || d.LetIn == nil {
			return identity, err
		}
	}
	if d.LetIn != nil && isHere(r) {
		return *d.LetIn, nil
	}
	return Identity{}, ErrUnknown
}

// isHere reports whether a request comes from this machine itself, and not through a proxy on it.
func isHere(r *http.Request) bool {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	return err == nil && at.Addr().Unmap().IsLoopback() && r.Header.Get("X-Forwarded-For") == "" &&
		r.Header.Get("Forwarded") == ""
}

func (d *Door) byToken(ctx context.Context, text string) (Identity, error) {
	if !strings.HasPrefix(text, TokenPrefix) {
		return Identity{}, ErrUnknown
	}
	now := d.Now()
	t, err := d.Store.TokenOf(ctx, Digest(text), now)
	if err != nil {
		return Identity{}, unknown(err)
	}
	role, ok := Lesser(Role(t.Role), Role(t.Person.Role))
	if !ok || t.Person.Disabled {
		return Identity{}, ErrUnknown
	}
	if t.UsedAt == nil || now.Sub(*t.UsedAt) >= touchTime {
		if err := d.Store.Used(ctx, t.ID, now); err != nil {
			return Identity{}, err
		}
	}
	return Identity{Person: t.PersonID, Name: t.Person.Name, Role: role, Label: t.Label,
		Vantage: t.Vantage, Token: t.ID, Through: "token " + t.Name}, nil
}

func (d *Door) bySession(ctx context.Context, secret string) (Identity, error) {
	now := d.Now()
	x, err := d.Store.Session(ctx, Digest(secret), now)
	if err != nil {
		return Identity{}, unknown(err)
	}
	if x.Person.Disabled {
		return Identity{}, ErrUnknown
	}
	if now.Sub(x.SeenAt) >= touchTime {
		x.EndsAt = ends(x.CreatedAt, now, x.Person)
		if err := d.Store.Seen(ctx, x.Digest, now, x.EndsAt); err != nil {
			return Identity{}, err
		}
	}
	through := "session"
	if x.Person.ByOpenID() {
		through = "OpenID"
	}
	return Identity{Person: x.PersonID, Name: x.Person.Name, Role: Role(x.Person.Role), Through: through,
		Session: x.Digest, Ends: x.EndsAt}, nil
}

func unknown(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return ErrUnknown
	}
	return err
}

// ends is when a session ends that is not used again.
func ends(created, seen time.Time, whose store.Person) time.Time {
	idle, last := seen.Add(idleTime), created.Add(sessionTime)
	if whose.ByOpenID() {
		last = created.Add(openIDTime)
	}
	if last.Before(idle) {
		return last
	}
	return idle
}

// Errors of a sign-in.
var (
	ErrWrong = errors.New("the name or the password is wrong")
	ErrSlow  = errors.New("too many sign-ins failed; try again later")
)

// Know says who has the name and the password; the caller at the address is not signed in yet. wait is how long nothing
// is tried after ErrSlow.
func (d *Door) Know(ctx context.Context, name, password string, from netip.Addr) (p store.Person, wait time.Duration,
	err error) {
	if !d.MayTry(from) {
		return p, time.Minute, ErrSlow
	}
	now := d.Now()
	closed, err := d.Store.ClosedTo(ctx, name)
	if err != nil {
		return p, 0, err
	}
	if closed.After(now) {
		return p, closed.Sub(now), ErrSlow
	}
	p, err = d.Store.PersonNamed(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return p, 0, err
	}
	right, err := Matches(ctx, p.Password, password)
	if err != nil {
		return p, 0, err
	}
	if !right || p.Disabled {
		if err := d.Failed(ctx, name); err != nil {
			return p, 0, err
		}
		return p, 0, ErrWrong
	}
	return p, 0, nil
}

// Failed counts a sign-in with the name that failed, after which the next ones wait.
func (d *Door) Failed(ctx context.Context, name string) error {
	return d.Store.SignInFailed(ctx, name, d.Now(), delay)
}

// Begin begins a session of somebody.
func (d *Door) Begin(ctx context.Context, p store.Person) (*http.Cookie, error) {
	now := d.Now()
	secret, digest := NewSecret()
	err := d.Store.SignIn(ctx, &store.Session{Digest: digest, PersonID: p.ID, CreatedAt: now, SeenAt: now,
		EndsAt: ends(now, now, p)})
	return d.cookie(secret, int(sessionTime.Seconds())), err
}

// Gone is the cookie that takes the session's away.
func (d *Door) Gone() *http.Cookie { return d.cookie("", -1) }

func (d *Door) cookie(value string, age int) *http.Cookie {
	return &http.Cookie{Name: d.Cookie(), Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: d.Secure,
		SameSite: http.SameSiteStrictMode}
}

// delay is how long a name is closed after so many failures in a row. It stays short enough that nobody is locked out
// by somebody else for long, and makes 1,440 guesses a day at most.
func delay(failures int) time.Duration {
	if failures < 4 {
		return 0
	}
	return min(time.Second<<min(failures-4, 6), time.Minute)
}

// Sign-ins from one network: so many at once, and one more in each pause.
const (
	tries    = 20
	tryPause = 6 * time.Second
	// mostNetworks bounds the memory for them; when there are more, all begin anew.
	mostNetworks = 10_000
)

// MayTry counts a sign-in from the address, or from its network of 64 bits.
func (d *Door) MayTry(from netip.Addr) bool {
	bits := 32
	if from.Is6() {
		bits = 64
	}
	network, err := from.Prefix(bits)
	if err != nil {
		return false
	}
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if len(d.limits) >= mostNetworks || d.limits == nil {
		d.limits = map[netip.Prefix]*rate.Limiter{}
	}
	limit := d.limits[network]
	if limit == nil {
		limit = rate.NewLimiter(rate.Every(tryPause), tries)
		d.limits[network] = limit
	}
	return limit.Allow()
}

// Address is where a request comes from: what a trusted proxy says, else the other end of the connection.
func (d *Door) Address(r *http.Request) netip.Addr {
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	address := at.Addr().Unmap()
	// Each proxy adds whom it was called by, at the end.
	hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for _, hop := range slices.Backward(hops) {
		if !d.trusts(address) {
			break
		}
		before, err := netip.ParseAddr(strings.TrimSpace(hop))
		if err != nil {
			break
		}
		address = before.Unmap()
	}
	return address
}

func (d *Door) trusts(address netip.Addr) bool {
	return slices.ContainsFunc(d.Proxies, func(p netip.Prefix) bool { return p.Contains(address) })
}
