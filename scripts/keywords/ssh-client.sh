# OpenSSH: keywords of ssh_config.
sed -n '/^static struct {/,/^};/p' "$1"/openssh-*/readconf.c | grep -oE '^\s*\{ "[a-z0-9]+", o' | sed 's/.*"\(.*\)".*/\1/'
