#!/bin/sh
# Collects the configuration of a machine for an audit with Trevlin: @FOR@.
# Run as root, in a folder with space: sh collect.sh [NAME [ROOT]]
#   NAME  name of the device; by default its host name
#   ROOT  folder with the files of a machine, such as a mounted image; by default this machine
# Nothing on the machine changes. The result is an archive NAME.tar, which contains secrets: transfer it like a password.
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
root=${2:-/}
case $name in
    '' | *[!A-Za-z0-9_-]*) echo "name of the device: letters, digits, - and _; run: sh collect.sh NAME" >&2; exit 2 ;;
esac
if [ -e "$name" ] || [ -e "$name.tar" ]; then
    echo "$name or $name.tar already exists here; remove it or choose another folder" >&2
    exit 2
fi
[ -d "$root/etc" ] || { echo "$root has no folder etc" >&2; exit 2; }
[ "$(id -u)" = 0 ] || echo "not run as root: some files will be missing" >&2
here=$(pwd)
out=$here/$name
mkdir "$out" "$out/running" || exit 2
log=$out/collect.log
echo "roles: @NAMES@" > "$log"
[ "$(id -u)" = 0 ] || echo "not run as root" >> "$log"
# All paths below are relative to the root of the machine.
cd "$root" || exit 2

# Copies one file to its own path below the folder; private keys are reduced to their first and last lines.
copy() {
    case $1 in */../* | ../*) return 0 ;; esac
    if [ -e "$out/$1" ] || [ -h "$out/$1" ]; then return 0; fi
    case $(pwd)/$1 in "$out"/* | "$out".tar) return 0 ;; esac
    mkdir -p "$out/$(dirname "$1")"
    if [ -h "$1" ]; then
        cp -P "$1" "$out/$1" 2>> "$log" || echo "not copied: $1" >> "$log"
        # Step by step, so that every link on the way is kept.
        target=$(readlink "$1" 2> /dev/null) || return 0
        case $target in
            /*) target=${target#/} ;;
            *) target=$(cd "$(dirname "$1")" && cd "$(dirname "$target")" 2> /dev/null && pwd -P)/$(basename "$target") ;;
        esac
        top=$(pwd -P)
        target=${target#"${top%/}"/}
        if [ -f "$target" ]; then copy "$target"; fi
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
        }' "$1" > "$out/$1" 2>> "$log"
        echo "private key left out: $1" >> "$log"
        return 0
    fi
    cp -p "$1" "$out/$1" 2>> "$log" || echo "not copied: $1" >> "$log"
}

# Copies files, folders and what patterns match; what is absent is no error.
take() {
    for one in "$@"; do
        if [ -d "$one" ]; then
            if [ -h "$one" ]; then copy "$one"; fi
            find "$one/" \( -type f -o -type l \) -print 2>> "$log" | sed 's|//*|/|g' |
                while IFS= read -r file; do copy "$file"; done
        elif [ -e "$one" ] || [ -h "$one" ]; then
            copy "$one"
        fi
    done
}

# Keeps the output of a command; without the program, or where it fails, there is no file. An image runs no commands.
run() {
    into=$out/running/$1
    shift
    if [ "$root" != / ] || ! command -v "$1" > /dev/null 2>&1; then return 0; fi
    if ! "$@" > "$into" 2>> "$log" < /dev/null; then
        echo "failed: $*" >> "$log"
        [ -s "$into" ] || rm -f "$into"
    fi
}

# Prints the homes of all accounts.
homes() {
    cut -d : -f 6 etc/passwd 2> /dev/null | sort -u | while IFS= read -r home; do
        case $home in
            /?*) if [ -d "${home#/}" ]; then echo "${home#/}"; fi ;;
        esac
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
                    for one in ${named#/}; do
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
cd "$out" || exit 2
find . -type f ! -name manifest.sha256 -print | sort | while IFS= read -r file; do sum "$file"; done > manifest.sha256
cd "$here" || exit 2
count=$(grep -c . "$name/manifest.sha256")
if tar -cf "$name.tar" "$name"; then
    rm -rf "${out:?}"
    echo "$count files collected: $name.tar"
else
    echo "$count files collected: folder $name" >&2
fi
