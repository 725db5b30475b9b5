# NTPsec: keywords of its scanner.
grep -hoE '^\{ "[A-Za-z0-9_-]+",' "$1"/ntpsec-*/ntpd/keyword-gen.c | sed 's/.*"\(.*\)".*/\1/'
