// Command openapi prints the OpenAPI document of the management API, from which
// the console's types are made.
package main

import (
	"encoding/json"
	"log"
	"os"

	"github.com/gin-gonic/gin"

	"warthesis/internal/httpd/management"
	"warthesis/internal/httpd/management/desk"
)

func main() {
	gin.SetMode(gin.ReleaseMode)
	api := management.Register(gin.New(), &desk.Desk{Version: "development"})
	encoder := json.NewEncoder(os.Stdout)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(api.OpenAPI()); err != nil {
		log.Fatal(err)
	}
}
