package e2e

import (
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

type tried struct {
	Name, State, Network string
	Process              int
	Status               *int
	Relays               []struct {
		At   string
		Port int
	}
}

func (r *run) tried() (all []tried) {
	require.NoError(r.t, json.Unmarshal([]byte(r.ok("try", "list", "--format", "json")), &all))
	return all
}

// TestTogether: commands that share a network find one another by name and reach nothing else; ports of this machine lead to theirs; what
// was killed leaves nothing behind.
func TestTogether(t *testing.T) {
	if tun, err := os.OpenFile("/dev/net/tun", os.O_RDWR, 0); err == nil {
		tun.Close()
	} else if os.Getenv("CI") == "" {
		t.Skip("there is no /dev/net/tun for this user")
	}
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
images:
  gauge:
    base: none
    steps:
      - copy: {from: bin, to: /bin}
      - run: {command: [/bin/busybox, sh, -c, "busybox --install -s /bin; mkdir /srv; echo 3.42 > /srv/level"]}
    settings: {entrypoint: [sh, -c, "echo started; httpd -p 8080 -h /srv; sleep 1000"]}
`)
	r.ok("build")
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := strconv.Itoa(free.Addr().(*net.TCPAddr).Port)

	code, _, errs := r.says("", "try", "gauge", "--background", "--name", "gauge", "--together", "tides", "--relay", port+":8080")
	require.Equal(t, 1, code, "somebody has that port")
	require.Contains(t, errs, "--relay")
	require.NoError(t, free.Close())
	r.ok("try", "gauge", "--background", "--name", "gauge", "--together", "tides", "--relay", port+":8080")
	r.ok("try", "gauge", "--background", "--name", "bulletin", "--together", "tides", "--port", "8080", "--get", "/level")
	r.ok("try", "wait", "gauge", "--port", "8080", "--get", "/level")
	code, _, errs = r.says("", "try", "wait", "gauge", "--port", "8081")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "--relay 8081")
	code, _, _ = r.says("", "try", "wait", "gauge", "--port", "8080", "--get", "/none", "--within", "300ms")
	require.Equal(t, 1, code)
	code, _, _ = r.says("", "try", "gauge", "--name", "gauge", "--together", "tides")
	require.Equal(t, 2, code, "a name is somebody's")

	// Both listen at one port, each in a sandbox of its own.
	inside := func(network, line string) (int, string) {
		code, out, _ := r.says("", "try", "gauge", "--together", network, "--", "sh", "-c", line)
		return code, out
	}
	code, out := inside("tides", "wget -qO- http://gauge:8080/level && wget -qO- http://bulletin:8080/level")
	require.Equal(t, 0, code)
	require.Equal(t, "3.42\n3.42\n", out)
	for _, lost := range []string{"nc -w 2 harbour 8080 < /dev/null", "nc -w 2 192.0.2.1 80 < /dev/null", "nc -w 2 127.0.0.1 " + port + " < /dev/null"} {
		code, _ := inside("tides", lost)
		require.NotEqual(t, 0, code, lost)
	}
	code, _ = inside("other", "nc -w 2 gauge 8080 < /dev/null")
	require.NotEqual(t, 0, code, "another network has others in it")

	answer, err := http.Get("http://127.0.0.1:" + port + "/level")
	require.NoError(t, err)
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	require.Equal(t, "3.42\n", string(text))
	shown := r.ok("try", "list")
	require.Contains(t, shown, "127.0.0.1:"+port+" leads to 8080")
	require.Contains(t, shown, "tides")

	for _, one := range r.tried() {
		require.Equal(t, "running", one.State)
		require.NoError(t, syscall.Kill(one.Process, syscall.SIGKILL))
	}
	wait(t, "the killed ones are gone", func() bool {
		for _, one := range r.tried() {
			if one.State != "killed" {
				return false
			}
		}
		return true
	})
	wait(t, "nothing of theirs is left", func() bool {
		r.tried() // the next call cleans up
		left, err := filepath.Glob(filepath.Join(r.dir, "store/imbricat/networks/*/*"))
		return err == nil && len(left) == 0
	})
	code, _, errs = r.says("", "try", "wait", "gauge")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "was killed")
	r.ok("try", "stop", "gauge", "bulletin")

	r.ok("try", "gauge", "--background", "--name", "short", "--together", "tides", "--", "sh", "-c", "sleep 0.3; exit 4")
	code, _, _ = r.says("", "try", "wait", "short")
	require.Equal(t, 4, code)
	for _, wrong := range [][]string{{"--relay", "8080"}, {"--together", "a/b"}, {"--together", "tides", "--no-network"}, {"--together", "tides", "--relay", "x"}, {"--together", "tides", "--relay", "1:0"},
		{"--together", "tides", "--name", "a b"}} {
		code, _, _ := r.says("", append([]string{"try", "gauge"}, wrong...)...)
		require.Equal(t, 2, code, strings.Join(wrong, " "))
	}
}
