# MariaDB: options of the server, as it lists them.
chroot "$2" mariadbd --no-defaults --help --verbose 2>/dev/null | grep -oE '^  (-[A-Za-z#?], +)?--[a-z0-9-]+' | sed 's/.*--//'
chroot "$2" mariadbd --no-defaults --help --verbose 2>/dev/null | sed -n '/^Variables/,$p' | grep -oE '^[a-z][a-z0-9-]{2,}'
