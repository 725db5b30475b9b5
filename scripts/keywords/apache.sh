# The Apache HTTP server: directives of all modules, and sections.
grep -rhoE 'AP_INIT_[A-Z_0-9]+\(\s*"<?[A-Za-z_]+' "$1"/httpd-*/modules "$1"/httpd-*/server "$1"/httpd-*/os | sed 's/.*"<\{0,1\}//'
