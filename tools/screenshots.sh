#!/bin/bash
# Pictures of the main commands on the demo's data, in a real xterm: tools/screenshots.sh DIR. `make screenshots` sets it up.
set -euo pipefail
out=$(realpath "${1:?DIR}")
font='DejaVu Sans Mono'
work=$(mktemp -d)
xvfb=
trap 'kill $xvfb ${STANDINS_PID:-} 2>/dev/null || true; rm -rf "$work"' EXIT

Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$work/display" >/dev/null 2>&1 &
xvfb=$!
for _ in $(seq 100); do [ -s "$work/display" ] && break; sleep 0.05; done
DISPLAY=:$(cat "$work/display")
export DISPLAY LANG=C.UTF-8

shot() { # NAME COMMAND [POINTS]: a 1280x800 picture of what the command shows
  local size=${3:-12} cols rows name=$1 xterm
  cols=$((1268 / ((size * 803 + 999) / 1000))) # a cell of this font at 96 dpi, by its points
  rows=$((788 / ((size * 1667 + 999) / 1000 + (size < 8)))) # the smallest are a dot higher
  printf '%s\n' "$2" >"$work/command"
  cat >"$work/run" <<R
cd '$work/app'
while IFS= read -r line; do
  printf '\033[1;32m\$\033[0m %s\n' "\$line"
  bash -c "\$line" </dev/tty
done <'$work/command'
touch '$work/done'; exec sleep 60
R
  rm -f "$work/done"
  xterm -u8 -fa "$font" -fs "$size" -fg '#e6e6e6' -bg '#000000' -cr '#000000' -b 6 -bw 0 +sb -geometry "${cols}x$rows+0+0" \
    -xrm 'XTerm*color1: #ff6b68' -xrm 'XTerm*color4: #6c9dff' -tn xterm-256color -e bash "$work/run" &
  xterm=$!
  for _ in $(seq 400); do [ -e "$work/done" ] && break; sleep 0.05; done
  sleep 0.4 # let it draw
  import -silent -window root "$out/$name.png"
  kill $xterm; wait $xterm 2>/dev/null || true
}

page() { # NAME ADDRESS: a 1280x800 picture of a page
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update \
    --disable-sync --force-prefers-reduced-motion --hide-scrollbars --user-data-dir="$work/browser" --window-size=1280,800 \
    --virtual-time-budget=2000 --screenshot="$out/$1.png" "file://$2" >/dev/null 2>&1
}

cp -r "$(dirname "$0")/../src/coinjar/demo/app" "$work/app"
export COINJAR_IDENTITY_FILE=$work/identity XDG_CONFIG_HOME=$work/config
coinjar identity new --out "$COINJAR_IDENTITY_FILE" >"$work/recipient"
for name in berta ticketing recovery; do coinjar identity new --out "$work/$name.identity" >"$work/app/$name"; done

shot consent 'coinjar drift rehearsal pipelines </dev/null
coinjar consent --show
coinjar consent --yes >/dev/null
coinjar consent --show' 9
shot adopt 'coinjar adopt file:old.env --stage dev --yes' 9
shot grid-wide 'coinjar grid' 9
shot why 'coinjar why prod LOG_LEVEL --service timetable; echo; coinjar why prod TICKET_DB_URL --service ticketing'
shot compare 'coinjar compare rehearsal prod; coinjar stages list; coinjar promote rehearsal prod --dry-run' 9
shot check 'coinjar check' 7
shot seal "coinjar readers seal
cat jar/coins/prod.coins
coinjar generate TICKET_DB_PASSWORD --replace --stage rehearsal --stage prod --yes
EDITOR=cat coinjar edit prod
coinjar within prod --service ticketing --mask -- sh -c 'echo connecting to \$TICKET_DB_URL'" 11
shot readers 'coinjar readers add $(cat berta) --label berta --stage prod-isles --yes
coinjar readers add $(cat ticketing) --label ticketing-prod --stage prod --service ticketing --yes
coinjar readers add $(cat recovery) --label recovery --offline --stage prod-isles --stage rehearsal --yes
coinjar readers list
COINJAR_IDENTITY_FILE=/nowhere coinjar grid --name "TICKET_DB_[HPU]*"
COINJAR_IDENTITY_FILE=/nowhere coinjar within prod --service ticketing -- ./ticketing
coinjar readers remove berta --everywhere --generate --yes' 11
shot render 'coinjar render rehearsal --service ticketing --as exec-script'
shot destinations 'coinjar render rehearsal' 10
shot dry-run "coinjar render prod pipeline --dry-run 2>/dev/null; printf another-made-up | coinjar put TICKET_DB_PASSWORD --stage rehearsal 2>/dev/null; coinjar render rehearsal container-env --dry-run" 10
shot mentions 'coinjar mentions --name "[TP]*"; echo; coinjar mentions | tail -7; coinjar rename TICKET_DB_HOST TICKET_DATABASE_HOST --dry-run 2>/dev/null | tail -13' 9

apps=(sandling-{notices,timetable,ticketing}-rehearsal sandling-{notices,timetable,ticketing}-prod sandling-berths sandling-ticketing sandling)
(cd "$work/app" && exec coinjar standins saltmarsh lanternfish sluiceway --state "$work/standins" "${apps[@]/#/--make=}" --exports "$work/exports") >/dev/null &
for _ in $(seq 100); do [ -e "$work/exports" ] && break; sleep 0.1; done
. "$work/exports"
export PIPELINES="$SLUICEWAY_ADDRESS/projects/sandling/pipelines" SETTINGS="$SALTMARSH_ADDRESS/v1/apps/sandling-timetable-rehearsal/settings"
python3 - "$work/app/sluiceway/smoke.yaml" <<'P'
import os, sys, urllib.request
data = open(sys.argv[1], "rb").read()
headers = {"Authorization": f"Bearer {os.environ['SLUICEWAY_TOKEN']}", "Content-Type": "application/yaml"}
urllib.request.urlopen(urllib.request.Request(os.environ["PIPELINES"] + "/smoke", data, headers, method="PUT"))
P
shot deliver 'coinjar deliver rehearsal hosting isles-hosting pipelines' 9
(cd "$work/app" && coinjar deliver rehearsal --restart && coinjar deliver prod --allow-guarded prod --restart && coinjar put SEASON=1.11 --stage rehearsal && coinjar deliver rehearsal hosting) >/dev/null 2>&1
python3 - <<'P'
import json, os, urllib.request
data = json.dumps({"settings": {"APP_TITLE": "Sandling Fairies", "NIGHT_BOAT": "", "DEBUG": "1"}}).encode()
headers = {"Authorization": f"Bearer {os.environ['SALTMARSH_TOKEN']}", "Content-Type": "application/json"}
urllib.request.urlopen(urllib.request.Request(os.environ["SETTINGS"], data, headers, method="PATCH"))
P
(cd "$work/app" && coinjar consent --yes) >/dev/null 2>&1 # the proofs have an address now
shot drift 'coinjar drift rehearsal'
shot confirm 'coinjar confirm rehearsal prod; echo; coinjar deliveries; echo; coinjar deliveries undo 10 --dry-run' 9
(cd "$work/app" && coinjar declare TICKET_DB_PASSWORD MAIL_PASSWORD --valid 90d && coinjar value rehearsal TICKET_DB_PASSWORD --service ticketing |
  coinjar put TICKET_DB_PASSWORD --stage rehearsal --set-on "$(date -d '-120 days' +%F)") >/dev/null 2>&1
shot rotate 'coinjar overdue
coinjar grid --ages
coinjar rotate TICKET_DB_PASSWORD --stage rehearsal --yes
coinjar rotate TICKET_DB_PASSWORD --stage rehearsal --yes --finish' 9
(cd "$work/app" && git init -q && for change in SEASON=1.20 FARE_CURRENCY=EUR TIMETABLE_CACHE=30s MAIL_HOST=mail.sandling.example; do
  coinjar put $change --stage rehearsal && git add jar
  git -c user.name=anna -c user.email=anna@sandling.example commit -qm "Set $change on rehearsal"; done
  coinjar report --live --out "$work/report.html" --plots "$work/figures") >/dev/null 2>&1 # with a short history
page report "$work/report.html"
cp "$work/figures/distances.png" "$out/report-distances.png"
rm -rf "$work/app/.git"
python3 - <<'P'
import json, os, urllib.request
data = json.dumps({"settings": {"fareTable": "summer-2", "OLD_BANNER": "made of paper"}}).encode()
headers = {"Authorization": f"Bearer {os.environ['SALTMARSH_TOKEN']}", "Content-Type": "application/json"}
for stage in ("rehearsal", "prod"):
    address = f"{os.environ['SALTMARSH_ADDRESS']}/v1/apps/sandling-ticketing-{stage}/settings"
    urllib.request.urlopen(urllib.request.Request(address, data, headers, method="PATCH"))
P
(cd "$work/app" && for stage in rehearsal prod; do coinjar put "TICKETS_LINK=$(coinjar value $stage PUBLIC_ADDRESS --service ticketing)" --stage $stage; coinjar deliver $stage --restart --allow-guarded prod; done
  sed -i 's/stages: ..   *# soon/stages: [rehearsal, prod]/' jar/jar.yaml) >/dev/null 2>&1
shot migrate 'coinjar migrate dest:ticket-hosting dest:isles-tickets --out move.yaml 2>/dev/null
coinjar migrate --execute move.yaml --yes --restart --allow-guarded prod 2>/dev/null | tail -9
coinjar compare dest:ticket-hosting@prod dest:isles-tickets@prod --sheet move.yaml 2>/dev/null' 9
