# nginx: directives of all modules.
find "$1"/nginx-*/src -name '*.c' -exec perl -0777 -ne 'print "$1\n" while /ngx_string\("([a-z]\w+)"\),\s*NGX_/g' {} +
