package outward

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnswersAreBoundedAndNobodyIsFollowedElsewhere(t *testing.T) {
	hang := make(chan struct{})
	reached := false
	mux := http.NewServeMux()
	mux.HandleFunc("/long", func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, strings.Repeat("x", 5000)) })
	mux.HandleFunc("/hang", func(http.ResponseWriter, *http.Request) { <-hang })
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/secret", http.StatusTemporaryRedirect)
	})
	mux.HandleFunc("/secret", func(http.ResponseWriter, *http.Request) { reached = true })
	server := httptest.NewServer(mux)
	defer server.Close()
	defer close(hang)
	client := Client(200*time.Millisecond, 1000)

	answer, err := client.Get(server.URL + "/long")
	require.NoError(t, err)
	raw, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	require.NoError(t, err)
	assert.Len(t, raw, 1000)

	_, err = client.Get(server.URL + "/hang")
	assert.Error(t, err)

	answer, err = client.Post(server.URL+"/moved", "text/plain", strings.NewReader("a secret"))
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusTemporaryRedirect, answer.StatusCode)
	assert.False(t, reached)
}
