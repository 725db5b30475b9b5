# Unbound: keywords of its scanner.
grep -hoE '^[a-z0-9-]+\{COLON\}' "$1"/unbound-*/util/configlexer.lex | sed 's/{COLON}//'
