//go:build !nosqlite

package detect

import _ "modernc.org/sqlite" // large, and left out where a build is only checked
