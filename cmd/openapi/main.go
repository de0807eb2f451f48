// Command openapi prints the OpenAPI document of the management API, from which
// the console's types are made.
package main

import (
	"encoding/json"
	"log"
	"os"

	"github.com/gin-gonic/gin"

	"warthesis/internal/httpd/management"
)

func main() {
	gin.SetMode(gin.ReleaseMode)
	api := management.Register(gin.New(), management.Options{Version: "development"})
	encoder := json.NewEncoder(os.Stdout)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(api.OpenAPI()); err != nil {
		log.Fatal(err)
	}
}
