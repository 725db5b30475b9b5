# rsyncd: parameters of its table.
grep -hoE '^(STRING|PATH|BOOL|INTEGER|CHAR|OCTAL|ENUM|BOOL3)\s+[a-z_| ]+' "$1"/rsync-*/daemon-parm.txt | sed 's/^[A-Z0-9]*\s*//' | tr '|' '\n' | sed 's/\s.*//; s/_/ /g'
grep -hoE '^(STRING|PATH|BOOL|INTEGER|CHAR|OCTAL|ENUM|BOOL3)\s+[a-z_| ]+' "$1"/rsync-*/daemon-parm.txt | sed 's/^[A-Z0-9]*\s*//' | tr '|' '\n' | sed 's/\s.*//'
