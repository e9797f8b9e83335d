package main

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/storetest"
)

// A load waits for a server that has no free connection, as it waits for one that starts.
func TestALoadWaitsForAFreeConnection(t *testing.T) {
	onServers(t, harbourPlan(50, 20), func(t *testing.T, s *site, _ *storetest.Server) {
		leave := occupy(t, s)
		r := s.on("load")
		require.Equal(t, 4, r.code, r.errOut)
		waiting := make(chan result, 1)
		go func() { waiting <- s.on("load", "--wait", "60s") }()
		time.Sleep(time.Second)
		leave(1000)
		select {
		case r = <-waiting:
			assert.Zero(t, r.code, r.errOut)
		case <-time.After(50 * time.Second):
			t.Fatal("it still waits")
		}
	})
}

// A load with several connections goes on with those that it gets.
func TestALoadUsesTheConnectionsThatThereAre(t *testing.T) {
	onServers(t, harbourPlan(3000, 500), func(t *testing.T, s *site, _ *storetest.Server) {
		leave := occupy(t, s)
		leave(1)
		r := s.on("load", "--commit", "chunk", "--chunk", "40", "--jobs", "4")
		require.Zero(t, r.code, r.errOut)
		// a connection that is still being opened when all chunks are given out is not counted
		assert.Regexp(t, "no free connection for [1-3] of those that --jobs asks for; the load did without", r.errOut)
		leave(1000)
		r = s.on("compare")
		assert.Zero(t, r.code, r.out)
	})
}
