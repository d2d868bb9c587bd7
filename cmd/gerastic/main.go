// Gerastic caches rendered pages and API answers in front of web applications.
package main

import (
	"os"

	"gerastic/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdout, os.Stderr)) }
