# ProFTPD: directives of all modules, and sections.
find "$1"/proftpd-*/modules "$1"/proftpd-*/contrib "$1"/proftpd-*/src -name '*.c' -exec perl -0777 -ne 'while (/conftable\s+\w+\[\]\s*=\s*\{(.*?)\n\};/sg) { my $t = $1; print "$1\n" while $t =~ /\{\s*"<?\/?([A-Za-z0-9]+)>?"/g }' {} +
