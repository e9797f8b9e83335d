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
		leave()
		select {
		case r = <-waiting:
			assert.Zero(t, r.code, r.errOut)
		case <-time.After(50 * time.Second):
			t.Fatal("it still waits")
		}
	})
}
