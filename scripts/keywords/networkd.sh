# systemd-networkd: sections with their keys, those of networks and of virtual devices.
grep -hoE '^[A-Za-z0-9]+\.[A-Za-z0-9_]+,' "$1"/systemd-*/src/network/networkd-network-gperf.gperf "$1"/systemd-*/src/network/netdev/netdev-gperf.gperf | tr -d ','
