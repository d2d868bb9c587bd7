// Package client speaks to a Gerastic node's control API: purge what changed, read the
// figures, ask why. Applications import it, and so does the gerastic command.
package client
