#!/bin/sh
# Install the Debian packages whose programs are missing: `run` for the program, `demo` for the example, `test` for the tests, `screenshots` for the pictures.
# Only root can; others are told what is missing, and the tests that need it are skipped and say so.
set -e

missing=
want() { # PROGRAM PACKAGE...
  program=$1; shift
  command -v "$program" >/dev/null 2>&1 || missing="$missing $*"
}

want "${PYTHON:-python3}" python3
"${PYTHON:-python3}" -c 'import ensurepip, venv' 2>/dev/null || missing="$missing python3-venv"
case ${1:-run} in
demo)
  want git git
  want nginx nginx-light
  ;;
test)
  want git git
  want age age
  want strace strace
  want ssh-keygen openssh-client
  want dash dash
  want bash bash
  want zsh zsh
  want fish fish
  want busybox busybox-static
  want podman podman
  want runc runc
  want catatonit catatonit
  want kubectl kubernetes-client
  want nginx nginx-light
  [ -x /usr/sbin/sshd ] || missing="$missing openssh-server"
  want etcd etcd-server
  want etcdctl etcd-client
  ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$missing postgresql"
  want javac default-jdk-headless
  want ruby ruby
  want go golang-go
  want php php-cli
  want groff groff-base
  [ -x /lib/systemd/systemd ] || missing="$missing systemd"
  want script bsdutils
  want chromium chromium
  # The one that an image is built of.
  /usr/bin/python3 -c 'import ensurepip, venv' 2>/dev/null || missing="$missing python3-venv"
  ;;
screenshots)
  want xterm xterm
  want Xvfb xvfb
  want import imagemagick
  want fc-list fontconfig
  want chromium chromium
  fc-list 2>/dev/null | grep -q 'DejaVu Sans Mono' || missing="$missing fonts-dejavu-core"
  ;;
esac

[ -n "$missing" ] || exit 0
if [ "$(id -u)" != 0 ]; then
  echo "not installed, and only root can install it:$missing" >&2
  exit 0
fi
export DEBIAN_FRONTEND=noninteractive
# A package must not start a service while it is being installed.
policy=/usr/sbin/policy-rc.d
if [ ! -e $policy ]; then
  printf '#!/bin/sh\nexit 101\n' >$policy
  chmod +x $policy
  trap 'rm -f $policy' EXIT
fi
# shellcheck disable=SC2086 # a list of packages
apt-get install -y -qq --no-install-recommends $missing >/dev/null 2>&1 || {
  apt-get update -qq
  apt-get install -y -qq --no-install-recommends $missing >/dev/null
}
