# HAProxy: keywords of the sections of a configuration, as the program lists them, and sections.
chroot "$2" haproxy -dKall -q -c -f /dev/null 2>/dev/null | grep -oE '^\s+(global|defaults|frontend|listen|backend|peers|resolvers|userlist|mailers|cache|ring|crt-store|ALL|bind|server)?\s*.*' |
    awk '{ for (i = 1; i <= NF; i++) print $i }' | grep -oE '^[a-z][a-z0-9._-]*$'
grep -rhoE '\{ CFG_[A-Z]+, "[a-z0-9._-]+"' "$1"/haproxy-*/src "$1"/haproxy-*/addons | sed 's/.*"\(.*\)"/\1/'
grep -hoE '!strcmp\(args\[0\], "[a-z0-9._-]+"' "$1"/haproxy-*/src/*.c | sed 's/.*"\(.*\)"/\1/'
