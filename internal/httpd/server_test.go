package httpd

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A stream that ends before its end, as an export of the audit log does where the
// records fail, must not look whole.
func TestAnAnswerThatIsCutLooksCut(t *testing.T) {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.Use(identify(), recovered())
	router.GET("/cut", func(c *gin.Context) {
		_, _ = io.WriteString(c.Writer, "a line\n")
		c.Writer.Flush()
		panic(http.ErrAbortHandler)
	})
	router.GET("/broken", func(c *gin.Context) {
		_, _ = io.WriteString(c.Writer, "a line\n")
		c.Writer.Flush()
		panic("nobody thought of this")
	})
	router.GET("/early", func(*gin.Context) { panic("nobody thought of this") })
	server := httptest.NewServer(router)
	defer server.Close()
	for _, path := range []string{"/cut", "/broken"} {
		answer, err := http.Get(server.URL + path)
		require.NoError(t, err)
		_, err = io.ReadAll(answer.Body)
		answer.Body.Close()
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF, path)
	}
	answer, err := http.Get(server.URL + "/early")
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusInternalServerError, answer.StatusCode)
}

// Every body has a deadline, whether somebody reads it or not; who has sent all of
// it is waited for as long as the answer takes.
func TestNoBodyIsWaitedForForEver(t *testing.T) {
	const idle = 200 * time.Millisecond
	mux := http.NewServeMux()
	mux.HandleFunc("/api/unread", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) })
	mux.HandleFunc("/api/read", func(w http.ResponseWriter, r *http.Request) {
		if _, err := io.ReadAll(r.Body); err != nil {
			w.WriteHeader(http.StatusRequestTimeout)
		}
	})
	mux.HandleFunc("/api/slow", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.ReadAll(r.Body)
		select {
		case <-r.Context().Done():
		case <-time.After(3 * idle):
			w.WriteHeader(http.StatusTeapot)
		}
	})
	server := httptest.NewServer(withDeadlines(mux, idle, 0))
	defer server.Close()
	said := func(request string) string {
		conn, err := net.Dial("tcp", server.Listener.Addr().String())
		require.NoError(t, err)
		defer conn.Close()
		_, err = io.WriteString(conn, request)
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
		raw, err := io.ReadAll(conn)
		require.NoError(t, err, "the connection is given up")
		return string(raw)
	}
	for path, status := range map[string]string{"/api/unread": "401", "/api/read": "408"} {
		for _, framing := range []string{"Content-Length: 1000\r\n\r\nx", "Transfer-Encoding: chunked\r\n\r\n1\r\nx\r\n"} {
			assert.Contains(t, said("POST "+path+" HTTP/1.1\r\nHost: x\r\n"+framing), status, path)
		}
	}
	answer, err := http.Post(server.URL+"/api/slow", "text/plain", strings.NewReader("all of it"))
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusTeapot, answer.StatusCode)
}
