# Redis: settings of its table with their second names, and those that its parser compares.
grep -hoE 'create[A-Za-z]+Config\("[a-z0-9-]+", *(NULL|"[a-z0-9-]+")' "$1"/redis-*/src/config.c | grep -oE '"[a-z0-9-]+"' | tr -d '"'
grep -hoE '!strcasecmp\(argv\[0\], *"[a-z0-9-]+"' "$1"/redis-*/src/config.c | sed 's/.*"\(.*\)"/\1/'
grep -hoE '!strcasecmp\(argv\[0\], *"[a-z0-9-]+"' "$1"/redis-*/src/sentinel.c | sed 's/.*"\(.*\)"/\1/'
