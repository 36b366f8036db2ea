package sandbox

import (
	"bytes"
	"io"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// answering listens at a port and gives whoever connects the same bytes.
func answering(t testing.TB, give func(conn net.Conn)) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_, _ = conn.Read(make([]byte, 4096))
				give(conn)
			}()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// TestEndlessAnswers: an image under check answers with what has no end, and is judged by the status all the same, soon.
func TestEndlessAnswers(t *testing.T) {
	for head, right := range map[string]bool{
		"HTTP/1.1 200 OK\r\n\r\n":                                   true,
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n":     true,
		"HTTP/1.1 500 Sorry\r\n\r\n":                                false,
		"HTTP/1.1 200 OK\r\n":                                       false, // headers for ever
		"HTTP/1.1 302 Found\r\nLocation: http://10.0.0.1/\r\n\r\n":  false,
		"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\n\r\n\x1f\x8b": true,
	} {
		port := answering(t, func(conn net.Conn) {
			_, err := io.WriteString(conn, head)
			for err == nil {
				_, err = io.WriteString(conn, "x: tide\r\n")
				if !strings.HasSuffix(head, "OK\r\n") {
					time.Sleep(10 * time.Millisecond)
				}
			}
		})
		began := time.Now()
		ask := Ask{Port: port, Get: "/", Status: 200, Within: 2 * time.Second}
		err := ask.Wait(t.Context())
		require.Equal(t, right, err == nil, "%q: %v", head, err)
		require.Less(t, time.Since(began), 10*time.Second, "%q", head)
		if right {
			require.Less(t, time.Since(began), ask.Within, "%q", head)
		}
	}
}

// FuzzAnswer: an answer counts only where its first line that is no interim one says so.
func FuzzAnswer(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"))
	f.Add([]byte("HTTP/1.1 100 Continue\r\n\r\nHTTP/1.0 200 OK\r\n\r\n"))
	f.Add([]byte("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello"))
	f.Add([]byte("HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1/\r\n\r\nHTTP/1.1 200 OK\r\n\r\n"))
	content := make(chan []byte, 1)
	port := answering(f, func(conn net.Conn) { _, _ = conn.Write(<-content) })
	final := regexp.MustCompile(`^(?s:HTTP/\d\.\d 1\d\d.*)?HTTP/\d\.\d +200( .*)?\r?\n`)
	f.Fuzz(func(t *testing.T, text []byte) {
		content <- bytes.Clone(text)
		ask := Ask{Port: port, Get: "/", Status: 200, Within: time.Second}
		if err := ask.once(t.Context()); err == nil {
			require.Regexp(t, final, string(text))
		}
		select {
		case <-content: // it was not asked
		default:
		}
	})
}
