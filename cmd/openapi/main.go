// Command openapi prints the service's OpenAPI document, from which the console's types are made.
package main

import (
	"fmt"
	"os"

	"dovrak/api"
)

func main() {
	doc, err := api.Document()
	if err == nil {
		_, err = os.Stdout.Write(append(doc, '\n'))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "openapi:", err)
		os.Exit(1)
	}
}
