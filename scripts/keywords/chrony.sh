# chronyd: directives that its parser compares.
grep -hoE 'strcasecmp\(command, "[a-z0-9]+"' "$1"/chrony-*/conf.c | sed 's/.*, "//; s/"//'
