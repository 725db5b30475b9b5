# Samba: parameters and their second names, from the definitions of its manual.
grep -rhoE '<samba:parameter name="[^"]+"' "$1"/samba-*/docs-xml/smbdotconf | sed 's/.*name="\(.*\)"/\1/; s/ //g'
grep -rhoE '<synonym>[^<]+' "$1"/samba-*/docs-xml/smbdotconf | sed 's/<synonym>//; s/ //g'
