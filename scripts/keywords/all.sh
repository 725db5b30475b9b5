#!/usr/bin/env bash
# Writes crates/readers/tables/program-keywords.toml: the settings that each program knows, by its own sources or its own list.
# usage: scripts/keywords/all.sh SOURCES ROOT [DATE]
#   SOURCES  folder with the unpacked sources of Debian's packages, ROOT a system with the programs to change root into
set -euo pipefail
cd "$(dirname "$0")/../.."
sources=$1 root=$2 date=${3:-$(date +%F)}
into=crates/readers/tables/program-keywords.toml

# The folder of sources of a program, whose name ends in its version.
folder() {
    case $1 in
        apache) echo httpd ;; hostapd) echo wpa ;; named) echo bind ;; ntp) echo ntpsec ;; smb) echo samba ;; snmpd) echo net-snmp ;;
        ssh-client) echo openssh ;; networkd) echo systemd-stable ;; *) echo "$1" ;;
    esac
}

{
    echo "# Settings that programs know, from their own sources or their own lists: written by scripts/keywords/all.sh, not by hand."
    echo "# Names are sorted by bytes and separated by commas, in small letters but for networkd."
    for script in scripts/keywords/*.sh; do
        program=$(basename "$script" .sh)
        [ "$program" != all ] || continue
        version=$(basename "$(echo "$sources/$(folder "$program")"-[0-9]*)" | sed 's/^.*-\([0-9]\)/\1/')
        names=$(bash "$script" "$sources" "$root" | if [ "$program" = networkd ]; then cat; else tr 'A-Z' 'a-z'; fi | LC_ALL=C sort -u)
        count=$(printf '%s\n' "$names" | wc -l)
        [ "$count" -gt 20 ] || { echo "$program: only $count names" >&2; exit 1; }
        printf '\n[%s]\nversion = "%s"\ndate = "%s"\n' "$program" "$version" "$date"
        printf "known = '''\n"
        printf '%s\n' "$names" | paste -sd, | sed 's/,/, /g' | fold -s -w 118 | sed 's/^/  /; s/ *$//'
        printf "'''\n"
    done
} > "$into.new"
mv "$into.new" "$into"
