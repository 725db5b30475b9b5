#!/bin/sh
# Collects the configuration of this machine for an audit with Trevlin: @FOR@.
# Run as root, in a folder with space: sh collect.sh [NAME]
# Nothing on the machine changes. Results are a folder NAME and an archive of it, which contain secrets: transfer them like passwords.
set -u
umask 077
PATH=$PATH:/usr/local/sbin:/usr/sbin:/sbin
LC_ALL=C
export PATH LC_ALL

private_keys=@KEYS@
most_kib=4096

# Names of devices carry no date: two collections of one device must compare.
name=${1:-$(uname -n)}
name=${name%%.*}
case $name in
    '' | *[!A-Za-z0-9_-]*) echo "name of the device: letters, digits, - and _; run: sh collect.sh NAME" >&2; exit 2 ;;
esac
if [ -e "$name" ] || [ -e "$name.tar" ]; then
    echo "$name or $name.tar already exists here; remove it or choose another folder" >&2
    exit 2
fi
[ "$(id -u)" = 0 ] || echo "not run as root: some files will be missing" >&2
mkdir "$name" || exit 2
out=$(pwd)/$name
mkdir "$out/running"
log=$out/collect.log
: > "$log"

# Copies one file to its own path below the folder; private keys are reduced to their first and last lines.
copy() {
    [ -e "$out$1" ] || [ -h "$out$1" ] && return 0
    case $1 in "$out" | "$out"/* | "$out".tar) return 0 ;; esac
    mkdir -p "$out${1%/*}"
    if [ -h "$1" ]; then
        cp -P "$1" "$out$1" 2>> "$log" || echo "not copied: $1" >> "$log"
        target=$(readlink -f "$1" 2> /dev/null) || return 0
        [ "$target" != "$1" ] && [ -f "$target" ] && copy "$target"
        return 0
    fi
    if [ -n "$(find "$1" -prune -size +"$((most_kib * 2))" 2> /dev/null)" ]; then
        echo "larger than $most_kib KiB: $1" >> "$log"
        return 0
    fi
    case $private_keys$1 in
        no*/ssh_host_*_key | no*/dropbear_*_host_key) return 0 ;;
    esac
    if [ "$private_keys" = no ] && grep -q -e '-----BEGIN .*PRIVATE KEY-----' "$1" 2> /dev/null; then
        sed '/-----BEGIN .*PRIVATE KEY-----/,/-----END .*PRIVATE KEY-----/{
            /PRIVATE KEY-----/b
            /:/b
            d
        }' "$1" > "$out$1" 2>> "$log"
        echo "private key left out: $1" >> "$log"
        return 0
    fi
    cp -p "$1" "$out$1" 2>> "$log" || echo "not copied: $1" >> "$log"
}

# Copies files, folders and what patterns match; what is absent is no error.
take() {
    for one in "$@"; do
        if [ -d "$one" ] && [ ! -h "$one" ]; then
            find "$one" \( -type f -o -type l \) -print 2>> "$log" | while IFS= read -r file; do copy "$file"; done
        elif [ -d "$one" ]; then
            copy "$one"
            target=$(readlink -f "$one" 2> /dev/null) && [ "$target" != "$one" ] && take "$target"
        elif [ -e "$one" ] || [ -h "$one" ]; then
            copy "$one"
        fi
    done
}

# Keeps the output of a command; without the program, or where it fails, there is no file.
run() {
    into=$out/running/$1
    shift
    command -v "$1" > /dev/null 2>&1 || return 0
    if ! "$@" > "$into" 2>> "$log" < /dev/null; then
        echo "failed: $*" >> "$log"
        [ -s "$into" ] || rm -f "$into"
    fi
}

# Prints the homes of all accounts.
homes() {
    cut -d : -f 6 /etc/passwd 2> /dev/null | sort -u | while IFS= read -r home; do
        case $home in /?*) [ -d "$home" ] && echo "$home" ;; esac
    done
}

@ROLES@
# Files that collected ones name: included ones, and certificates, key files and lists.
round=1
while [ "$round" -le 3 ]; do
    find "$out" -type f ! -path "$out/running/*" ! -name collect.log -exec grep -I -h -o -i \
        -e '^[[:space:]]*[@#$!]\{0,1\}[a-z_-]*include[a-z_-]*[[:space:]:=(]*["'\'']\{0,1\}/[^"'\'' ;)#]*' \
        -e '/[^"'\'' ;,:=()<>]*\.\(pem\|crt\|cer\|key\|secrets\{0,1\}\|htpasswd\|passwd\|passwords\|acl\|rules\|nft\)$*' {} + 2> /dev/null |
        sed 's|^[^/]*||' | sort -u | while IFS= read -r named; do
            case $named in
                /etc/* | /usr/local/etc/* | /opt/* | /srv/* | /var/lib/* | /home/* | /root/*)
                    # shellcheck disable=SC2086 # Patterns stand for what they match.
                    for one in $named; do
                        if [ -f "$one" ]; then copy "$one"; fi
                    done
                    ;;
            esac
        done
    round=$((round + 1))
done

# Checksums of everything, so that the survey can show that nothing was changed or lost on the way.
if command -v sha256sum > /dev/null 2>&1; then
    sum() { sha256sum "$1"; }
elif command -v shasum > /dev/null 2>&1; then
    sum() { shasum -a 256 "$1"; }
elif command -v sha256 > /dev/null 2>&1; then
    sum() { sha256 -r "$1"; }
else
    sum() { openssl dgst -sha256 -r "$1"; }
fi
(cd "$out" && find . -type f ! -name manifest.sha256 -print | sort | while IFS= read -r file; do sum "$file"; done) \
    > "$out/manifest.sha256"
tar -cf "$name.tar" "$name" && echo "$(grep -c . "$out/manifest.sha256") files collected: $name and $name.tar"
