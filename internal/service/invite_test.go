package service

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/secret"
)

// TestInvite: a code is good for so many hosts and so long; who asks waits until somebody approves, under one name one
// machine; names that fit need no approval; the token is the one that the agent made, before and after a restart.
func TestInvite(t *testing.T) {
	b := newBench(t)
	for _, wrong := range []api.InviteHosts{{Count: 0, Hours: 1}, {Count: 1}, {Count: 1, Hours: 721},
		{Count: 1, Hours: 1, Pattern: "a["}} {
		_, err := b.s.Fleet.Invite("ida", wrong)
		b.problem(err, "bad-request", "")
	}
	i, err := b.s.Fleet.Invite("ida", api.InviteHosts{Count: 3, Hours: 1, Pattern: "rack2-*"})
	require.NoError(t, err)
	tokens := map[string]string{}
	ask := func(name, code string) (bool, error) {
		if tokens[name] == "" {
			tokens[name] = secret.New(secret.HostPrefix)
		}
		return b.s.Fleet.Ask(api.AskEnrolment{Name: name, Code: code, Token: tokens[name]}, "192.0.2.7")
	}
	_, err = ask("gannet", "lan-invite-guessed")
	b.problem(err, "bad-token", "not known")
	_, err = ask("Gannet!", i.Code)
	b.problem(err, "bad-name", "cannot be a host's name")
	_, err = ask("fulmar", i.Code)
	b.problem(err, "host-exists", "is there already")
	for range 3 { // it asks several times, which counts once
		done, err := ask("gannet", i.Code)
		require.NoError(t, err)
		require.False(t, done)
		_, known := b.s.Fleet.HostOf(tokens["gannet"])
		require.False(t, known, "until somebody approves it can do nothing")
		b.restart()
	}
	_, err = b.s.Fleet.Ask(
		api.AskEnrolment{Name: "gannet", Code: i.Code, Token: secret.New(secret.HostPrefix)},
		"192.0.2.8",
	)
	b.problem(err, "host-exists", "Another machine already asks to be enrolled as gannet")
	done, err := ask("rack2-07", i.Code)
	require.NoError(t, err)
	require.True(t, done)
	v, err := b.s.Fleet.Invitations()
	require.NoError(t, err)
	require.Equal(t, 2, v.Open[0].Used)
	require.Empty(t, v.Open[0].Code)
	require.Equal(t, "192.0.2.7", v.Asking[0].From)

	b.unwritten("a host is approved", func() error { return b.s.Fleet.Approve("ida", "gannet") })
	require.NoError(t, b.s.Fleet.Approve("ida", "gannet"))
	b.problem(b.s.Fleet.Approve("ida", "gannet"), "no-host", "No host asks as")
	for range 2 {
		for _, name := range []string{"gannet", "rack2-07"} {
			host, known := b.s.Fleet.HostOf(tokens[name])
			require.True(t, known)
			require.Equal(t, name, host)
			done, err := ask(name, "")
			require.NoError(t, err)
			require.True(t, done, "an agent that lost the answer asks again")
		}
		b.restart()
	}
	_, err = ask("petrel", i.Code)
	require.NoError(t, err)
	require.NoError(t, b.s.Fleet.Decline("ida", "petrel"))
	_, err = ask("skerry", i.Code)
	b.problem(err, "invitation-full", "As many hosts")

	j, err := b.s.Fleet.Invite("ida", api.InviteHosts{Count: 50, Hours: 1, Pattern: "*"})
	require.NoError(t, err)
	for n := range 50 {
		done, err := ask(fmt.Sprint("node-", n), j.Code)
		require.NoError(t, err)
		require.True(t, done)
	}
	require.Len(t, b.s.Views.Hosts(), 53)
	k, err := b.s.Fleet.Invite("ida", api.InviteHosts{Count: 1, Hours: 1})
	require.NoError(t, err)
	require.NoError(t, b.s.Fleet.Withdraw("ida", k.Id))
	_, err = ask("late", k.Code)
	b.problem(err, "bad-token", "not known")
	b.problem(b.s.Fleet.Withdraw("ida", k.Id), "no-invitation", "")
}
