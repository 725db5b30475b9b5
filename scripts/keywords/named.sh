# BIND: names of clauses of named.conf.
grep -hoE '^\s*\{ "[a-z0-9-]+",' "$1"/bind-9*/lib/isccfg/namedconf.c | sed 's/.*"\(.*\)".*/\1/'
