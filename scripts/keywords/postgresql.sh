# PostgreSQL: parameters of all kinds.
grep -hoE '^\s*\{?"[a-z_]+", PGC_' "$1"/postgresql-*/src/backend/utils/misc/guc*.c | sed 's/.*"\(.*\)".*/\1/'
