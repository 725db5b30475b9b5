#!/usr/bin/env bash
# Holds the readers against the programs whose files they read: iptables-restore, iptables-save, ufw, docker-compose, podman, fail2ban, postfix, dovecot, slapd, squid, danted, turnserver, zabbix_agentd, nrpe, upsd, monit,
# exim, memcached, etcd, influxd, xinetd, inetd, rpcbind, in.tftpd, xrdp, cupsd, cockpit-ws, avahi-daemon, Xtigervnc, x11vnc, openvpn, sshd, freeradius,
# ocserv, ssh-keygen, sudo, dnsmasq, kea-dhcp4, dhcpd, netplan, ifquery, wg-quick, charon with swanctl and starter, Libreswan's
# parsers, gnutls-cli, stunnel; the servers of files, pages, databases, names, time and logs (testparm, smbd, exportfs, rsync, vsftpd,
# proftpd, nginx, apache2, haproxy, socat, postgres, redis-server, mosquitto, named, unbound, snmpd, chronyd, rsyslogd); standard models by
# yanglint; PAM stacks by pamtester; reports in a browser; and the packet engine against the kernel, with nft and iptables in network namespaces.
# Installs the programs from Debian's packages where they are missing. Needs root (network namespaces).
set -euo pipefail
cd "$(dirname "$0")/.."

missing=()
command -v iptables-restore >/dev/null || [ -x /usr/sbin/iptables-restore ] || missing+=(iptables)
command -v nft >/dev/null || [ -x /usr/sbin/nft ] || missing+=(nftables)
command -v ufw >/dev/null || [ -x /usr/sbin/ufw ] || missing+=(ufw)
command -v docker-compose >/dev/null || missing+=(docker-compose)
command -v podman >/dev/null || missing+=(podman)
command -v fail2ban-client >/dev/null || missing+=(fail2ban)
[ -x /usr/sbin/postfix ] || missing+=(postfix)
[ -x /usr/sbin/dovecot ] || missing+=(dovecot-core)
[ -x /usr/lib/dovecot/imap-login ] || missing+=(dovecot-imapd)
[ -x /usr/lib/dovecot/pop3-login ] || missing+=(dovecot-pop3d)
[ -x /usr/lib/dovecot/managesieve-login ] || missing+=(dovecot-managesieved)
[ -x /usr/sbin/squid ] || missing+=(squid)
[ -x /usr/sbin/danted ] || missing+=(dante-server)
command -v turnserver >/dev/null || missing+=(coturn)
[ -x /usr/sbin/zabbix_agentd ] || missing+=(zabbix-agent)
[ -x /usr/sbin/nrpe ] || missing+=(nagios-nrpe-server)
[ -x /usr/sbin/upsd ] || [ -x /sbin/upsd ] || missing+=(nut-server)
command -v monit >/dev/null || missing+=(monit)
ls /usr/lib/*/libidn.so.12 >/dev/null 2>&1 || missing+=(libidn12)
command -v memcached >/dev/null || missing+=(memcached)
command -v etcd >/dev/null || missing+=(etcd-server)
command -v influxd >/dev/null || missing+=(influxdb)
[ -x /usr/sbin/xinetd ] || missing+=(xinetd)
[ -x /usr/sbin/tcpd ] || missing+=(tcpd)
[ -x /sbin/rpcbind ] || missing+=(rpcbind)
[ -x /usr/sbin/in.tftpd ] || missing+=(tftpd-hpa)
[ -x /usr/sbin/xrdp ] || missing+=(xrdp)
[ -x /usr/sbin/cupsd ] || missing+=(cups-daemon)
[ -x /usr/lib/cockpit/cockpit-ws ] || missing+=(cockpit-ws)
[ -x /usr/sbin/avahi-daemon ] || missing+=(avahi-daemon)
command -v Xtigervnc >/dev/null || missing+=(tigervnc-standalone-server)
command -v xauth >/dev/null || missing+=(xauth)
command -v x11vnc >/dev/null || missing+=(x11vnc)
command -v Xvfb >/dev/null || missing+=(xvfb)
[ -x /usr/sbin/slapd ] || missing+=(slapd)
command -v ldapsearch >/dev/null || missing+=(ldap-utils)
command -v firewalld >/dev/null || [ -x /usr/sbin/firewalld ] || missing+=(firewalld)
command -v dbus-daemon >/dev/null || missing+=(dbus)
command -v ip >/dev/null || [ -x /usr/sbin/ip ] || [ -x /sbin/ip ] || missing+=(iproute2)
command -v openvpn >/dev/null || [ -x /usr/sbin/openvpn ] || missing+=(openvpn)
command -v freeradius >/dev/null || [ -x /usr/sbin/freeradius ] || missing+=(freeradius)
command -v ocserv >/dev/null || [ -x /usr/sbin/ocserv ] || missing+=(ocserv)
command -v visudo >/dev/null || [ -x /usr/sbin/visudo ] || missing+=(sudo)
command -v ssh-keygen >/dev/null || missing+=(openssh-client)
command -v openssl >/dev/null || missing+=(openssl)
command -v dnsmasq >/dev/null || [ -x /usr/sbin/dnsmasq ] || missing+=(dnsmasq-base)
command -v kea-dhcp4 >/dev/null || [ -x /usr/sbin/kea-dhcp4 ] || missing+=(kea-dhcp4-server)
command -v dhcpd >/dev/null || [ -x /usr/sbin/dhcpd ] || missing+=(isc-dhcp-server)
[ -x /usr/lib/systemd/systemd-networkd ] || [ -x /lib/systemd/systemd-networkd ] || missing+=(systemd)
command -v unshare >/dev/null || missing+=(util-linux)
command -v netplan >/dev/null || [ -x /usr/sbin/netplan ] || missing+=(netplan.io)
command -v ifquery >/dev/null || [ -x /sbin/ifquery ] || missing+=(ifupdown)
command -v wg-quick >/dev/null || missing+=(wireguard-tools)
command -v wireguard-go >/dev/null || missing+=(wireguard-go)
command -v sshd >/dev/null || [ -x /usr/sbin/sshd ] || missing+=(openssh-server)
[ -x /usr/lib/ipsec/charon ] || missing+=(strongswan-charon)
[ -x /usr/lib/ipsec/starter ] || missing+=(strongswan-starter)
command -v swanctl >/dev/null || [ -x /usr/sbin/swanctl ] || missing+=(strongswan-swanctl)
# XAuth, EAP and old ciphers of charon are packages of their own.
[ -e /usr/lib/ipsec/plugins/libstrongswan-gcrypt.so ] || missing+=(libstrongswan-extra-plugins)
[ -e /usr/lib/ipsec/plugins/libstrongswan-eap-md5.so ] || missing+=(libcharon-extra-plugins)
command -v gnutls-cli >/dev/null || missing+=(gnutls-bin)
command -v stunnel >/dev/null || missing+=(stunnel4)
command -v curl >/dev/null || missing+=(curl)
command -v chromium >/dev/null || missing+=(chromium)
command -v smbd >/dev/null || [ -x /usr/sbin/smbd ] || missing+=(samba)
command -v testparm >/dev/null || missing+=(samba-common-bin)
command -v smbclient >/dev/null || missing+=(smbclient)
command -v exportfs >/dev/null || [ -x /usr/sbin/exportfs ] || missing+=(nfs-kernel-server)
command -v rsync >/dev/null || missing+=(rsync)
command -v proftpd >/dev/null || [ -x /usr/sbin/proftpd ] || missing+=(proftpd-core)
command -v nginx >/dev/null || [ -x /usr/sbin/nginx ] || missing+=(nginx-light)
[ -e /usr/lib/nginx/modules/ngx_stream_module.so ] || missing+=(libnginx-mod-stream)
command -v socat >/dev/null || missing+=(socat)
command -v apache2 >/dev/null || [ -x /usr/sbin/apache2 ] || missing+=(apache2)
command -v haproxy >/dev/null || [ -x /usr/sbin/haproxy ] || missing+=(haproxy)
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing+=(postgresql)
command -v redis-server >/dev/null || missing+=(redis-server)
command -v mosquitto >/dev/null || [ -x /usr/sbin/mosquitto ] || missing+=(mosquitto)
command -v named >/dev/null || [ -x /usr/sbin/named ] || missing+=(bind9)
command -v named-checkconf >/dev/null || [ -x /usr/bin/named-checkconf ] || missing+=(bind9-utils)
command -v unbound >/dev/null || [ -x /usr/sbin/unbound ] || missing+=(unbound)
command -v snmpd >/dev/null || [ -x /usr/sbin/snmpd ] || missing+=(snmpd)
command -v yanglint >/dev/null || missing+=(libyang-tools)
python3 -m pip --version >/dev/null 2>&1 || missing+=(python3-pip)
for each in "sssd sssd-common" "nslcd nslcd" "krb5kdc krb5-kdc" "kadmind krb5-admin-server" "kadmin krb5-user" "ypserv ypserv" \
    "ypbind ypbind-mt" "ldbsearch ldb-tools" "strace strace"; do
    command -v "${each% *}" >/dev/null || [ -x "/usr/sbin/${each% *}" ] || missing+=("${each#* }")
done
ls /usr/lib/*/sssd/libsss_ldap.so >/dev/null 2>&1 || missing+=(sssd-ldap)
command -v pamtester >/dev/null || missing+=(pamtester)
command -v oathtool >/dev/null || missing+=(oathtool)
ls /lib/*/security/pam_oath.so >/dev/null 2>&1 || missing+=(libpam-oath)
ls /lib/*/security/pam_google_authenticator.so >/dev/null 2>&1 || missing+=(libpam-google-authenticator)
command -v rsyslogd >/dev/null || [ -x /usr/sbin/rsyslogd ] || missing+=(rsyslog)
# Libreswan's programs take the place of strongSwan's, so they are unpacked beside them and not installed; the libraries that
# its parsers need are.
libreswan="${CARGO_TARGET_DIR:-target}/tmp/libreswan"
if [ ! -x "$libreswan/usr/libexec/ipsec/algparse" ]; then
    missing+=(libnss3 libnspr4 libunbound8 libldns3 libevent-core-2.1-7)
fi
if [ ${#missing[@]} -gt 0 ]; then
    export DEBIAN_FRONTEND=noninteractive
    # Nothing that is installed here is to be started by its package.
    if [ ! -e /usr/sbin/policy-rc.d ]; then
        printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d
        chmod +x /usr/sbin/policy-rc.d
    fi
    apt-get update -qq
    apt-get install -y -qq --no-install-recommends "${missing[@]}"
fi
if [ ! -x "$libreswan/usr/libexec/ipsec/algparse" ]; then
    mkdir -p "$libreswan"
    (cd "$libreswan" && apt-get download -qq libreswan && dpkg -x libreswan_*.deb .)
fi
# These exclude others that are needed here, so they too are unpacked beside them.
beside="${CARGO_TARGET_DIR:-target}/tmp/beside"
if [ ! -x "$beside/usr/sbin/vsftpd" ] || [ ! -x "$beside/usr/sbin/chronyd" ] || [ ! -x "$beside/usr/sbin/inetd" ] ||
    [ ! -x "$beside/usr/sbin/exim4" ]; then
    mkdir -p "$beside"
    (cd "$beside" && apt-get download -qq vsftpd chrony openbsd-inetd exim4-daemon-light exim4-config exim4-base && for package in *.deb; do dpkg -x "$package" .; done)
fi
# The modules of the RFCs ship with a package of Python's; nothing of it is installed or run.
models="${CARGO_TARGET_DIR:-target}/tmp/models"
if [ ! -e "$models/ietf/ietf-system.yang" ]; then
    mkdir -p "$models/download"
    python3 -m pip download --quiet --no-deps --dest "$models/download" pyang
    (cd "$models/download" && python3 -m zipfile -e pyang-*.whl .)
    mv "$models"/download/pyang-*.data/data/share/yang/modules/* "$models"/
fi
YANG_MODULES=$(realpath "$models")
export YANG_MODULES
VSFTPD=$(realpath "$beside/usr/sbin/vsftpd")
CHRONYD=$(realpath "$beside/usr/sbin/chronyd")
INETD=$(realpath "$beside/usr/sbin/inetd")
EXIM=$(realpath "$beside")
export VSFTPD CHRONYD INETD EXIM
export PATH="$PATH:/usr/sbin:/sbin"
# Where its service runs it has this folder, and without it the program reads nothing.
[ -d /run/sshd ] || mkdir -p /run/sshd
iptables --version
openvpn --version | sed -n 1p
sshd -V 2>&1 | sed -n 1p || true

# The whole workspace, so that what the ordinary tests built is used again.
cargo test --locked --workspace --no-fail-fast --test conformance --test conformance_accounts --test conformance_models --test conformance_pam --test conformance_sudo --test conformance_scripts --test conformance_addresses --test conformance_sshd --test conformance_services --test conformance_nft --test conformance_ufw --test conformance_containers --test conformance_guards --test conformance_mail --test conformance_directory --test conformance_daemons --test conformance_logins --test conformance_tunnels --test kernel --test estates --test relays --test scrubbed --test examples --test browser -- --ignored
cargo test --locked --workspace --lib algorithms -- --ignored
cargo test --locked --workspace --lib priorities -- --ignored
