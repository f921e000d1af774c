package service_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/descope/virtualwebauthn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/client"
	"nurvik/internal/service"
)

// device stands in for a browser with a security key.
type device struct {
	party  virtualwebauthn.RelyingParty
	holder virtualwebauthn.Authenticator
	key    virtualwebauthn.Credential
}

func newDevice(origin string) *device {
	return &device{virtualwebauthn.RelyingParty{ID: "localhost", Origin: origin}, virtualwebauthn.NewAuthenticator(),
		virtualwebauthn.NewCredential(virtualwebauthn.KeyTypeEC2)}
}

// make answers what a new passkey is to be made from.
func (d *device) make(t *testing.T, asked api.Challenge) api.ChallengeAnswer {
	t.Helper()
	options, err := virtualwebauthn.ParseAttestationOptions(string(asked.Options))
	require.NoError(t, err)
	return api.ChallengeAnswer{Try: asked.Try,
		Answer: json.RawMessage(virtualwebauthn.CreateAttestationResponse(d.party, d.holder, d.key, *options))}
}

// sign answers a sign-in, with a counter that has gone on.
func (d *device) sign(t *testing.T, asked *api.Challenge) api.ChallengeAnswer {
	t.Helper()
	require.NotNil(t, asked)
	options, err := virtualwebauthn.ParseAssertionOptions(string(asked.Options))
	require.NoError(t, err)
	d.key.Counter++
	return api.ChallengeAnswer{Try: asked.Try,
		Answer: json.RawMessage(virtualwebauthn.CreateAssertionResponse(d.party, d.holder, d.key, *options))}
}

// TestPasskeys: with a passkey, the password alone opens nothing.
func TestPasskeys(t *testing.T) {
	t.Parallel()
	data := shortDirectory(t)
	address, setUp := begun(t, service.Config{Data: data})
	origin := strings.Replace(address, "127.0.0.1", "localhost", 1)
	ctx := t.Context()
	master, elsewhere := stranger(t, address), stranger(t, address)
	_, err := master.SetUp(ctx, api.SetUp{Code: setUp[strings.Index(setUp, "#")+1:], Name: "harbour-master",
		Password: password})
	require.NoError(t, err)
	_, err = elsewhere.SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	asked := func(c *client.Client, name string) *api.Challenge {
		t.Helper()
		in, err := c.SignIn(ctx, name, password)
		require.NoError(t, err)
		require.Nil(t, in.Session)
		return in.Passkey
	}

	// It takes the password once more, and the device's answer to what was asked of this person.
	_, err = master.BeginPasskey(ctx, "some other words")
	assert.ErrorContains(t, err, "not your password")
	mine := newDevice(origin)
	begin := func(c *client.Client) api.Challenge {
		t.Helper()
		challenge, err := c.BeginPasskey(ctx, password)
		require.NoError(t, err)
		return challenge
	}
	_, err = master.AddPasskey(ctx, api.PasskeyStart{Name: "key on the ring", ChallengeAnswer: newDevice(
		"http://localhost.tarnholm.example").make(t, begin(master))})
	assert.ErrorContains(t, err, "not accepted", "from a page of another origin")
	first := mine.make(t, begin(master))
	added, err := master.AddPasskey(ctx, api.PasskeyStart{Name: "key on the ring", ChallengeAnswer: first})
	require.NoError(t, err)
	_, err = master.AddPasskey(ctx, api.PasskeyStart{Name: "again", ChallengeAnswer: first})
	assert.ErrorContains(t, err, "answered already")
	_, err = elsewhere.Session(ctx)
	assert.Equal(t, 401, status(err), "sessions that were begun without it have ended")
	_, err = master.Session(ctx)
	require.NoError(t, err)

	// Another person with a passkey, which opens nobody else's account.
	_, err = master.AddPerson(ctx, api.PersonStart{Name: "pilot", Role: "viewer", Password: password})
	require.NoError(t, err)
	pilot, theirs := stranger(t, address), newDevice(origin)
	_, err = pilot.SignIn(ctx, "pilot", password)
	require.NoError(t, err)
	_, err = pilot.AddPasskey(ctx, api.PasskeyStart{Name: "mine", ChallengeAnswer: theirs.make(t, begin(master))})
	assert.ErrorContains(t, err, "begin again", "what somebody else was asked")
	_, err = pilot.AddPasskey(ctx, api.PasskeyStart{Name: "mine", ChallengeAnswer: mine.make(t, begin(pilot))})
	assert.Equal(t, 409, status(err), "a passkey is one person's")
	_, err = pilot.AddPasskey(ctx, api.PasskeyStart{Name: "mine", ChallengeAnswer: theirs.make(t, begin(pilot))})
	require.NoError(t, err)
	assert.Equal(t, 404, status(pilot.RemovePasskey(ctx, added.ID)))

	here := stranger(t, address)
	_, err = here.SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	_, err = here.People(ctx)
	assert.Equal(t, 401, status(err), "the password alone opens nothing")
	other := newDevice(origin)
	other.party.Origin = "https://elsewhere.tarnholm.example"
	refused := []struct {
		name   string
		answer func() api.ChallengeAnswer
	}{
		{"another device", func() api.ChallengeAnswer {
			return newDevice(origin).sign(t, asked(here, "harbour-master"))
		}},
		{"somebody else's device", func() api.ChallengeAnswer { return theirs.sign(t, asked(here, "harbour-master")) }},
		{"what somebody else was asked", func() api.ChallengeAnswer {
			answer := mine.sign(t, asked(here, "harbour-master"))
			answer.Try = asked(here, "pilot").Try
			return answer
		}},
		{"what was asked before", func() api.ChallengeAnswer {
			answer := mine.sign(t, asked(here, "harbour-master"))
			answer.Try = asked(here, "harbour-master").Try
			return answer
		}},
		{"a page of another origin", func() api.ChallengeAnswer {
			other.key = mine.key
			return other.sign(t, asked(here, "harbour-master"))
		}},
		{"nobody touched it", func() api.ChallengeAnswer {
			absent := *mine
			absent.holder.Options.UserNotPresent = true
			return absent.sign(t, asked(here, "harbour-master"))
		}},
		{"no try", func() api.ChallengeAnswer { return api.ChallengeAnswer{Try: "x", Answer: json.RawMessage(`{}`)} }},
		{"no answer", func() api.ChallengeAnswer {
			return api.ChallengeAnswer{Try: asked(here, "harbour-master").Try, Answer: json.RawMessage(`[1]`)}
		}},
		{"the try of a new passkey", func() api.ChallengeAnswer {
			answer := mine.sign(t, asked(here, "harbour-master"))
			answer.Try = begin(master).Try
			return answer
		}},
	}
	for _, tt := range refused {
		execute(t, data, "DELETE FROM failed_sign_ins")
		_, err := here.FinishSignIn(ctx, tt.answer())
		assert.Equal(t, 401, status(err), tt.name)
		_, err = here.People(ctx)
		assert.Equal(t, 401, status(err), tt.name)
	}

	execute(t, data, "DELETE FROM failed_sign_ins")
	answer := mine.sign(t, asked(here, "harbour-master"))
	session, err := here.FinishSignIn(ctx, answer)
	require.NoError(t, err)
	assert.Equal(t, []string{"harbour-master", "session"}, []string{session.Name, session.Through})
	_, err = stranger(t, address).FinishSignIn(ctx, answer)
	assert.ErrorContains(t, err, "answered already")
	mine.key.Counter = 0
	_, err = stranger(t, address).FinishSignIn(ctx, mine.sign(t, asked(stranger(t, address), "harbour-master")))
	assert.Equal(t, 401, status(err), "a copy of the device, whose counter is behind")
	list, err := here.Passkeys(ctx)
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.Equal(t, []any{"key on the ring", origin, true},
		[]any{list.Items[0].Name, list.Address, list.Items[0].UsedAt != nil})

	// The pilot has lost the device, and an administrator takes it away.
	people, err := here.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{people[0].Passkeys, people[1].Passkeys})
	changed, err := here.ChangePerson(ctx, people[1].ID, api.PersonChange{RemovePasskeys: true})
	require.NoError(t, err)
	assert.Zero(t, changed.Passkeys)
	in, err := stranger(t, address).SignIn(ctx, "pilot", password)
	require.NoError(t, err)
	assert.NotNil(t, in.Session)

	require.NoError(t, here.RemovePasskey(ctx, added.ID))
	in, err = stranger(t, address).SignIn(ctx, "harbour-master", password)
	require.NoError(t, err)
	assert.NotNil(t, in.Session, "the password is enough again")
	log, err := here.Activity(ctx, "", 100)
	require.NoError(t, err)
	told := map[string]int{}
	for _, a := range log.Items {
		if a.Operation == "sign-in-passkey" && a.Status == 401 && a.Object == "harbour-master" {
			told["refused"]++
		}
		if a.Status < 300 && (a.Operation == "add-passkey" || a.Operation == "remove-passkey") {
			told[a.Operation+" "+a.Object]++
		}
	}
	assert.Equal(t, map[string]int{"refused": 7, "add-passkey key on the ring": 1, "add-passkey mine": 1,
		"remove-passkey key on the ring": 1}, told)
}
