#!/bin/sh
# need.sh PROGRAM:PACKAGE ... installs the Debian packages whose programs are
# missing, where root or sudo allows it; else it names them in one sentence.
set -eu
missing=""
for pair in "$@"; do
  program=${pair%%:*} package=${pair##*:}
  case $program in
    gstreamer) # an RTSP server that isn't ours, for tests
      for so in rtp jpeg mulaw x264 x265; do
        ls /usr/lib/*/gstreamer-1.0/libgst$so.so >/dev/null 2>&1 || missing="$missing gstreamer1.0-plugins-good gstreamer1.0-plugins-bad gstreamer1.0-plugins-ugly"
      done
      /usr/bin/python3 -c 'import gi; gi.require_version("GstRtspServer", "1.0")' >/dev/null 2>&1 || missing="$missing $package python3-gi" ;;
    initdb) ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing="$missing $package" ;;
    *) command -v "$program" >/dev/null 2>&1 || missing="$missing $package" ;;
  esac
done
if ! command -v go >/dev/null 2>&1; then
  echo "Go 1.26 or newer is needed and isn't installed: see https://go.dev/dl." >&2
  exit 1
fi
[ -z "$missing" ] && exit 0
as=""
if [ "$(id -u)" != 0 ]; then
  if command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then as="sudo"; else
    echo "Debian's packages$missing are needed and can't be installed from here: ask for 'apt-get install$missing'." >&2
    exit 1
  fi
fi
command -v apt-get >/dev/null 2>&1 || { echo "These programs are needed; on Debian they come with the packages$missing." >&2; exit 1; }
echo "Installing$missing ..."
# A cluster of Debian's own isn't needed: this product starts its own server.
export DEBIAN_FRONTEND=noninteractive
$as apt-get update -qq
$as apt-get install -y -qq --no-install-recommends $missing >/dev/null
