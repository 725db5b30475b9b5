#!/usr/bin/env bash
# Measures Trevlin on configurations of other projects: the defaults of Debian's server packages in a chroot, and the examples and
# tests in the sources of upstream packages, each checked by its real program. Prints the table of docs/formats.md, lines that a program
# takes and Trevlin does not, unread files of the collected export, and every finding on the defaults.
# Needs root, Debian's packages, about 4 GiB and a quarter of an hour; what is there from an earlier run is kept.
# usage: scripts/foreign.sh [FOLDER]   FOLDER, target/foreign by default, holds everything
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(realpath -m "${1:-target/foreign}")
root=$work/root sources=$work/sources
mirror=${MIRROR:-$(sed -n 's/^URIs: //p' /etc/apt/sources.list.d/debian.sources 2>/dev/null | head -n 1)}
[ -n "$mirror" ] || { echo "set MIRROR to a mirror of Debian" >&2; exit 2; }
suite=bookworm

# Of programs that exclude each other the last stays installed; configurations of all remain.
packages=(
    openssh-server sudo nftables iptables iptables-persistent firewalld ufw ipset fail2ban nginx apache2 haproxy bind9 unbound dnsmasq
    isc-dhcp-server kea-dhcp4-server kea-dhcp6-server samba nfs-kernel-server vsftpd proftpd-core rsync postgresql mariadb-server
    redis-server mosquitto snmpd ntpsec chrony rsyslog freeradius openvpn strongswan strongswan-swanctl wireguard-tools ocserv xl2tpd
    pptpd stunnel4 hostapd miniupnpd ddclient inadyn netplan.io ifupdown libpam-radius-auth postfix dovecot-imapd slapd squid cron dropbear
)
upstream=(
    openssh nginx apache2 haproxy bind9 unbound dnsmasq isc-dhcp samba proftpd-dfsg rsync chrony ntpsec rsyslog freeradius openvpn
    strongswan stunnel4 wpa iptables systemd netplan.io xl2tpd net-snmp mosquitto redis postgresql-15 mariadb sudo pam
)

command -v debootstrap > /dev/null || { apt-get update -q && apt-get install -y -q debootstrap; } > /dev/null
mkdir -p "$work"
if [ ! -e "$root/.complete" ]; then
    echo "== a system with ${#packages[@]} packages"
    rm -rf "$root"
    debootstrap --variant=minbase --include=ca-certificates "$suite" "$root" "$mirror" > "$work/system.log"
    printf '#!/bin/sh\nexit 101\n' > "$root/usr/sbin/policy-rc.d"
    chmod +x "$root/usr/sbin/policy-rc.d"
    printf 'deb %s %s main\ndeb-src %s %s main\n' "$mirror" "$suite" "$mirror" "$suite" > "$root/etc/apt/sources.list"
    cp --remove-destination /etc/resolv.conf "$root/etc/resolv.conf"
    mount --bind /proc "$root/proc"
    trap 'umount "$root/proc" 2> /dev/null || true' EXIT
    chroot "$root" apt-get update -q >> "$work/system.log"
    for package in "${packages[@]}"; do
        DEBIAN_FRONTEND=noninteractive chroot "$root" apt-get install -y -q --no-install-recommends "$package" \
            >> "$work/system.log" 2>&1 || echo "not installed: $package"
    done
    mkdir -p "$root/run/sshd"
    touch "$root/.complete"
fi

if [ ! -e "$sources/.complete" ]; then
    echo "== sources of ${#upstream[@]} packages"
    rm -rf "$sources"
    mkdir -p "$sources" "$root/root/src"
    for package in "${upstream[@]}"; do
        chroot "$root" sh -c "cd /root/src && apt-get source --download-only -q $package" >> "$work/system.log" 2>&1 ||
            echo "no source: $package"
    done
    for archive in "$root"/root/src/*.orig.tar.*z* "$root"/root/src/*.orig-*.tar.*z*; do
        case $archive in *.asc) ;; *) [ ! -e "$archive" ] || tar -xf "$archive" -C "$sources" ;; esac
    done
    touch "$sources/.complete"
fi

cargo build --release --quiet
trevlin=target/release/trevlin

echo "== files of upstream sources, each in its place on a machine"
cargo run --release --quiet -p xtask -- foreign --root "$root" --sources "$sources" --work "$work/files"

echo "== sources: files read as a format outside of the places of configurations"
$trevlin audit "$sources" --format json --limit files=1000000 --limit total-bytes=8G 2> /dev/null > "$work/sources.json" || true
cargo run --release --quiet -p xtask -- misread "$work/sources.json"

echo "== the export of the system, by the script that Trevlin prints"
rm -rf "$work/export" "$root/root/cellar" "$root/root/cellar.tar"
mkdir -p "$work/export"
$trevlin collect --for debian > "$work/collect.sh"
(cd "$work/export" && sh "$work/collect.sh" cellar "$root" && tar -xf cellar.tar && rm cellar.tar)
$trevlin survey "$work/export" -v > "$work/survey.txt" 2> /dev/null
sed -n '/^UNSUPPORTED/,/^$/p; /^CHECKSUMS/,/^$/p; /^NOT READ/,/^$/p' "$work/survey.txt"

echo "== findings on the defaults"
$trevlin audit "$work/export" --quiet 2> /dev/null || true
