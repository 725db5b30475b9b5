# strongSwan: parts of the names of all options, from the definitions of its manual.
grep -rhoE '^[a-z][A-Za-z0-9_.<>{}-]+' "$1"/strongswan-*/conf/options/*.opt "$1"/strongswan-*/conf/plugins/*.opt | tr '.' '\n' | grep -E '^[a-z][A-Za-z0-9_-]+$'
