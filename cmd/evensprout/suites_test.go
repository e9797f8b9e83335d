package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"evensprout/internal/demo"
	"evensprout/internal/order"
)

// TestSuitesOfOtherProjects runs the docs' test suites as their users do: by during, on
// every engine.
func TestSuitesOfOtherProjects(t *testing.T) {
	root := must(filepath.Abs("../.."))
	for _, e := range engines() {
		t.Run(e.name, func(t *testing.T) {
			f := newFolder(t)
			s := &site{folder: f, engine: e, url: "sqlite:" + f.file("none.db")}
			s.clients(t)
			if e.start != nil {
				s.url = e.start(t).Database(t, "SELECT 1")
			}
			s.write("evensprout.yaml", demo.Entities)
			s.write("schema.sql", demo.Schema)
			for _, name := range []string{"go/ferries.go", "go/ferries_test.go", "python/test_ferries.py",
				"shell/test-ferries.sh"} {
				text, err := os.ReadFile(filepath.Join(root, "docs/examples", name))
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(s.file(filepath.Base(name)), text, 0o755))
			}
			bo := s.run("export", "--row", "Passenger.bo", "--without-database")
			require.Zero(t, bo.code, bo.errOut)
			s.write("bo.json", bo.out)
			during := func(command ...string) result {
				c := s.command(
					append([]string{"during", "--schema", "schema.sql", "--db", s.url, "--"}, command...)...)
				c.Env = append(
					os.Environ(),
					"HOME="+s.path,
					"XDG_CACHE_HOME="+s.path,
					"GOCACHE="+goEnv(t, "GOCACHE"),
					"GOMODCACHE="+goEnv(t, "GOMODCACHE"),
					"DATABASE_URL=",
				)
				out, _ := c.CombinedOutput()
				return result{c.ProcessState.ExitCode(), string(out), ""}
			}
			r := during("./test-ferries.sh")
			assert.Zero(t, r.code, r.out)
			assert.Contains(t, r.out, "ok      Ada is active")
			// The Go suite stands in the module that it is an example of.
			r = during("go", "-C", root, "test", "-count=1", "-v", "./docs/examples/go")
			assert.Zero(t, r.code, r.out)
			assert.Contains(t, r.out, "--- PASS: TestSeatsTaken")
			assert.Contains(t, r.out, "--- PASS: TestCancelGivesSeatsBack")
			if _, err := exec.LookPath("python3"); err != nil {
				t.Skip("no python3")
			}
			r = during("python3", "-m", "unittest", "-v")
			assert.Zero(t, r.code, r.out)
			assert.Contains(t, r.out, "Ran 3 tests")

			// A suite that fails fails the run.
			s.write("test-ferries.sh", "#!/bin/sh\nexit 3\n")
			assert.Equal(t, 3, during("./test-ferries.sh").code)
		})
	}
}

func goEnv(t *testing.T, name string) string {
	t.Helper()
	out, err := exec.Command("go", "env", name).Output()
	require.NoError(t, err)
	return string(out[:len(out)-1])
}

// TestTheFixtureExample runs the part of the Go suite that brings its own database.
func TestTheFixtureExample(t *testing.T) {
	root := must(filepath.Abs("../.."))
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	f.write("schema.sql", demo.Schema)
	built := exec.Command("go", "test", "-c", "-o", f.file("suite"), "./docs/examples/go")
	built.Dir = root
	out, err := built.CombinedOutput()
	require.NoError(t, err, string(out))
	c := exec.Command(f.file("suite"), "-test.v")
	c.Dir = f.path
	out, err = c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "--- PASS: TestWithFixture")
}

func TestTheJobManifestAsksForAllParts(t *testing.T) {
	var job struct {
		Spec struct {
			Completions uint64
			Template    struct {
				Spec struct{ Containers []struct{ Command []string } }
			}
		}
	}
	require.NoError(t, yaml.Unmarshal(must(os.ReadFile("../../docs/examples/job.yaml")), &job))
	command := job.Spec.Template.Spec.Containers[0].Command
	p := must(order.ParsePart("1" + command[4][len("env"):]))
	assert.Equal(t, job.Spec.Completions, p.Of)
	f := newFolder(t)
	f.sample(t)
	c := f.command("load", "larkwater/evensprout.yaml", "--part", command[4])
	c.Env = append(c.Env, "JOB_COMPLETION_INDEX=15")
	out, err := c.CombinedOutput()
	assert.NoError(t, err, string(out))
}
