#!/usr/bin/env bash
set -euo pipefail
# needs $NOT_THIS
here="$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)"
: "${«REGISTRY»:?which registry?}"
«TAG:set»="${«TAG|latest»:-latest}"
image="${«IMAGE_NAME|office»:-office}:${«TAG»}"
log() { printf '%s %s\n' "$(date)" "$*" >&2; }
retry() {
  local count=0 limit="${«RETRIES|3»:-3}"
  until "$@"; do
    count=$((count + 1))
    if [ "$count" -ge "$limit" ]; then return 1; fi
    sleep "$count"
  done
}
if [[ -n "${«DRY_RUN:presence»:-}" ]]; then log "dry"; exit 0; fi
while read -r name value; do
  export "$name=$value"
done < "$here/settings"
log "to $«REGISTRY» as ${«DEPLOY_USER»}"
retry push "$«REGISTRY»/$image" --token "$«DEPLOY_TOKEN»"
cat > "$here/notes" <<NOTES
Released $«TAG» by $«USER»
NOTES
«LANG:set»=C sort -o "$here/notes" "$here/notes"
