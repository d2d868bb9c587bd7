package clients

import "embed"

// Python is the kit for Python, below python/.
//
//go:embed python/gerastic/*.py
var Python embed.FS
