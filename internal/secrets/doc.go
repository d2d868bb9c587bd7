// Package secrets reads what nobody else should know from files below one directory.
package secrets
