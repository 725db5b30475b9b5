# mosquitto: settings that its parser compares.
grep -hoE '!strcmp\(token, "[a-z0-9_]+"' "$1"/mosquitto-*/src/conf.c | sed 's/.*"\(.*\)"/\1/'
