package sftp

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/store"
)

// TestWaysIn: with the agent's keys, with a certificate, by way of another host.
func TestWaysIn(t *testing.T) {
	s, dir := server(t), t.TempDir()
	t.Setenv("HOME", t.TempDir())
	t.Setenv("SSH_AUTH_SOCK", "")
	run := func(name string, args ...string) {
		t.Helper()
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	place := fmt.Sprintf("sftp://%s@127.0.0.1:%d%s?known_hosts=%s", s.User, s.Port, dir, s.Known)
	works := func(url string) {
		t.Helper()
		st, err := store.Open(t.Context(), url)
		require.NoError(t, err, url)
		name := "a/" + strings.ReplaceAll(t.Name(), "/", "-")
		require.NoError(t, store.WriteNew(t.Context(), st, name, []byte("x")))
		require.NoError(t, st.Remove(t.Context(), name))
		require.NoError(t, st.(*Store).Close())
	}
	refused := func(url, code string) {
		t.Helper()
		_, err := store.Open(t.Context(), url)
		require.True(t, fault.HasCode(err, code), "%v", err)
	}

	t.Run("agent", func(t *testing.T) {
		refused(place, "key-absent")
		socket := filepath.Join(t.TempDir(), "agent")
		agent := exec.Command("ssh-agent", "-D", "-a", socket)
		require.NoError(t, agent.Start())
		defer func() { agent.Process.Kill(); agent.Wait() }()
		require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 10*time.Second, 20*time.Millisecond)
		t.Setenv("SSH_AUTH_SOCK", socket)
		refused(place, "key-absent")
		run("ssh-add", "-q", s.Key)
		works(place)
	})

	t.Run("jump", func(t *testing.T) {
		gate := server(t)
		both := filepath.Join(t.TempDir(), "known")
		var lines []byte
		for _, file := range []string{s.Known, gate.Known} {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			lines = append(lines, text...)
		}
		require.NoError(t, os.WriteFile(both, lines, 0o600))
		allowed, err := os.ReadFile(filepath.Join(s.Folder, "authorized_keys"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(gate.Folder, "authorized_keys"), allowed, 0o600))
		by := fmt.Sprintf("&jump=%s@127.0.0.1:%d", gate.User, gate.Port)
		works(strings.Replace(place, s.Known, both, 1) + "&key=" + s.Key + by)
		refused(place+"&key="+s.Key+by, "host-unknown") // the one between is looked at too
	})

	t.Run("certificate", func(t *testing.T) {
		at := t.TempDir()
		key, ca := filepath.Join(at, "key"), filepath.Join(at, "ca")
		run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
		run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", ca)
		refused(place+"&key="+key, "store-refused")
		public, err := os.ReadFile(ca + ".pub")
		require.NoError(t, err)
		file := filepath.Join(s.Folder, "authorized_keys")
		require.NoError(t, os.WriteFile(file, append([]byte("cert-authority "), public...), 0o600))
		refused(place+"&key="+key, "store-refused")
		run("ssh-keygen", "-q", "-s", ca, "-I", "quay", "-n", s.User, key+".pub")
		works(place + "&key=" + key)
	})
}
