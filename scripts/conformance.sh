#!/usr/bin/env bash
# Holds the readers against the programs whose files they read: iptables-restore, iptables-save, openvpn.
# Installs the programs from Debian's packages where they are missing. Needs root (network namespaces).
set -euo pipefail
cd "$(dirname "$0")/.."

missing=()
command -v iptables-restore >/dev/null || [ -x /usr/sbin/iptables-restore ] || missing+=(iptables)
command -v ip >/dev/null || [ -x /usr/sbin/ip ] || [ -x /sbin/ip ] || missing+=(iproute2)
command -v openvpn >/dev/null || [ -x /usr/sbin/openvpn ] || missing+=(openvpn)
if [ ${#missing[@]} -gt 0 ]; then
    export DEBIAN_FRONTEND=noninteractive
    apt-get update -qq
    apt-get install -y -qq --no-install-recommends "${missing[@]}"
fi
export PATH="$PATH:/usr/sbin:/sbin"
iptables --version
openvpn --version | sed -n 1p

cargo test --locked -p trevlin-readers --test conformance -- --ignored
