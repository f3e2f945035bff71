#!/bin/sh
# waits for ${NOT_THIS}
set -eu
if [ "${«WAIT|yes»:-yes}" = yes ]; then
  until nc -z "$«DB_HOST»" "${«DB_PORT|5432»-5432}"; do sleep 1; done
fi
for file in /run/secrets/*; do
  name=$(basename "$file")
  eval "export $name=\"\$(cat $file)\""
done
case ${«ROLE|web»:-web} in
  web) set -- serve --port "${«PORT»:?}" ;;
  worker) set -- work --queue "$«QUEUE»" ;;
  *) echo "no role: $«ROLE»" >&2; exit 64 ;;
esac
[ -z "${«TRACE:presence»+x}" ] || set -x
exec env "$@"
