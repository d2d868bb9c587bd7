// Package aftercommit purges what a transaction changed, after it was committed: not
// before, since an old page could be made again meanwhile, and not when it was rolled
// back. What is to be purged is written in the same transaction, into a table of the
// application's own database, and leaves it when Gerastic has purged it: neither a
// crash between the commit and the purge nor a Gerastic that cannot be reached loses it.
package aftercommit
