#!/usr/bin/env bash
# Makes the pictures in docs/screenshots from the demo estate. Installs what it needs from Debian's packages.
set -euo pipefail
cd "$(dirname "$0")/.."

missing=()
command -v xterm >/dev/null || missing+=(xterm)
command -v Xvfb >/dev/null || missing+=(xvfb)
# Some machines have another program under the name of ImageMagick's.
[ -x /usr/bin/import ] || missing+=(imagemagick)
command -v chromium >/dev/null || missing+=(chromium)
fc-list 2>/dev/null | grep -q "DejaVu Sans Mono" || missing+=(fonts-dejavu-core fontconfig)
if [ ${#missing[@]} -gt 0 ]; then
    export DEBIAN_FRONTEND=noninteractive
    apt-get update -qq
    apt-get install -y -qq --no-install-recommends "${missing[@]}"
fi

cargo build --quiet --release --locked
work=$(mktemp -d)
trap 'kill "${server:-}" 2>/dev/null || true; rm -rf "$work"' EXIT
target/release/trevlin demo --into "$work" >/dev/null
ln -s "$PWD/target/release/trevlin" "$work/trevlin"

display=:$((80 + $$ % 900))
Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
server=$!
sleep 1

# shot NAME COMMAND [COLUMNS [FONT SIZE [ROWS]]]: what a terminal of 140 columns shows after the command.
shot() {
    local name=$1 command=$2 columns=${3:-140} size=${4:-11} rows=${5:-43}
    cat >"$work/run.sh" <<SCRIPT
cd "$work"
export PATH="$work:\$PATH"
printf '\033[1m\$ %s\033[0m\n' '$command'
$command
touch "$work/done"
sleep 60
SCRIPT
    rm -f "$work/done"
    DISPLAY=$display xterm -fa "DejaVu Sans Mono" -fs "$size" -geometry "${columns}x${rows}+0+0" -bg '#101418' -fg '#d8dee6' \
        -b 8 +sb -e bash "$work/run.sh" &
    local terminal=$!
    for _ in $(seq 50); do [ -e "$work/done" ] && break; sleep 0.2; done
    sleep 0.7
    DISPLAY=$display /usr/bin/import -window root "docs/screenshots/$name.png"
    kill "$terminal" 2>/dev/null || true
    wait "$terminal" 2>/dev/null || true
}

shot audit 'trevlin audit before --color always | head -n 40'
shot audit-summary 'trevlin audit before --color always | tail -n 40'
shot survey 'trevlin survey before --color always' 171 9 53
shot logins 'trevlin logins before'
shot addresses 'trevlin addresses before --color always | head -n 40'
shot tunnels 'trevlin tunnels before' 171 9 53
shot rules 'trevlin rules before --device south-gate --color always' 127 12 38
shot reach 'trevlin reach before --from outside --to 192.0.2.18 --proto tcp --port 8443 --entering harbour-edge:eth0' 127 12 38
shot coverage 'trevlin coverage before --controls iso-27002-2022 --color always | head -n 40'
shot exposure 'trevlin exposure before --color always | head -n 41'
shot services 'trevlin services before --device quay-storage --color always | head -n 38'
shot phrasebook 'trevlin phrasebook try before/phrasebooks/sluice-keeper.toml before/south-gate/sluice-list.txt | head -n 44' 154 10 47
shot sheet 'trevlin sheet show before --device yard-gate | head -n 44' 154 10 47
shot compare 'trevlin compare before after --color always'
target/release/trevlin addresses "$work/before" --force --picture docs/screenshots/address-plan.png
target/release/trevlin exposure "$work/before" --force --picture docs/screenshots/exposure-paths.png

# page NAME ANCHOR: what a browser shows of the report from an anchor on.
target/release/trevlin report "$work/before" --to "$work/report.html" >/dev/null
page() {
    local cut='<script>for (let at = document.getElementById("'$2'"); at && at.tagName !== "BODY"; at = at.parentElement)
        while (at.previousElementSibling) at.previousElementSibling.remove();</script></body>'
    local text
    text=$(<"$work/report.html")
    [ -z "$2" ] || text=${text/"</body>"/"$cut"}
    printf '%s' "$text" >"$work/page.html"
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 \
        --screenshot="docs/screenshots/$1.png" "file://$work/page.html" >/dev/null 2>&1
}
page report-summary ''
page report-finding f45
page report-controls controls
