# hostapd: settings that its parser compares.
grep -hoE 'os_strcmp\(buf, "[A-Za-z0-9_]+"' "$1"/wpa-*/hostapd/config_file.c | sed 's/.*"\(.*\)"/\1/'
