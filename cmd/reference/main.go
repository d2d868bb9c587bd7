// Reference writes the parts of the documentation that are made from the code: the
// description of the API and the list of commands. Run by make generate.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"gerastic/internal/cli"
	"gerastic/internal/control"
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: reference DIRECTORY")
	}
	if err := write(os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

func write(dir string) error {
	api, err := control.New(control.Config{Log: slog.New(slog.DiscardHandler), Now: time.Now}).OpenAPI()
	if err != nil {
		return fmt.Errorf("describing the API: %w", err)
	}
	var indented bytes.Buffer
	if err := json.Indent(&indented, api, "", "  "); err != nil {
		return err
	}
	indented.WriteByte('\n')
	if err := os.WriteFile(filepath.Join(dir, "openapi.json"), indented.Bytes(), 0o644); err != nil {
		return err
	}
	var commands bytes.Buffer
	cli.Reference(&commands)
	return os.WriteFile(filepath.Join(dir, "commands.md"), commands.Bytes(), 0o644)
}
