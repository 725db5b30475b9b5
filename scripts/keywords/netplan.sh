# Netplan: keys of its parser.
grep -hoE '\{"[a-z0-9-]+", YAML_' "$1"/netplan-*/src/parse.c | sed 's/.*"\(.*\)".*/\1/'
