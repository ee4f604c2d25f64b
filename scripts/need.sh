#!/bin/sh
# need.sh PROGRAM:PACKAGE ... installs the Debian packages whose programs are
# missing, where root or sudo allows it; else it names them in one sentence.
set -eu
missing=""
wished="" # better where it is to be had
for pair in "$@"; do
  program=${pair%%:*} package=${pair##*:}
  case $program in
    gstreamer) # an RTSP server that isn't ours, for tests
      for so in rtp jpeg mulaw x264 x265; do
        ls /usr/lib/*/gstreamer-1.0/libgst$so.so >/dev/null 2>&1 || missing="$missing gstreamer1.0-plugins-good gstreamer1.0-plugins-bad gstreamer1.0-plugins-ugly"
      done
      /usr/bin/python3 -c 'import gi; gi.require_version("GstRtspServer", "1.0")' >/dev/null 2>&1 || missing="$missing $package python3-gi" ;;
    chromium) # the browser without windows does the same with a third less work
      if command -v chromium-headless-shell >/dev/null 2>&1; then :
      elif command -v chromium >/dev/null 2>&1; then wished="$wished $package"
      else missing="$missing $package"; fi ;;
    initdb) ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || missing="$missing $package" ;;
    *) command -v "$program" >/dev/null 2>&1 || missing="$missing $package" ;;
  esac
done
if ! command -v go >/dev/null 2>&1; then
  echo "Go 1.26 or newer is needed and isn't installed: see https://go.dev/dl." >&2
  exit 1
fi
[ -z "$missing$wished" ] && exit 0
as=""
if [ "$(id -u)" != 0 ]; then
  if command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then as="sudo"
  elif [ -z "$missing" ]; then exit 0
  else
    echo "Debian's packages$missing are needed and can't be installed from here: ask for 'apt-get install$missing'." >&2
    exit 1
  fi
fi
if [ -z "$missing" ]; then
  command -v apt-get >/dev/null 2>&1 || exit 0
  echo "Installing$wished ..."
  export DEBIAN_FRONTEND=noninteractive
  get() { $as apt-get -o Acquire::http::Timeout=15 -o Acquire::Retries=0 -y -qq "$@" >/dev/null 2>&1; }
  get install --no-install-recommends $wished || { get update && get install --no-install-recommends $wished; } || echo "It isn't to be had: chromium does."
  exit 0
fi
command -v apt-get >/dev/null 2>&1 || { echo "These programs are needed; on Debian they come with the packages$missing." >&2; exit 1; }
echo "Installing$missing ..."
# A cluster of Debian's own isn't needed: this product starts its own server.
export DEBIAN_FRONTEND=noninteractive
$as apt-get update -qq
$as apt-get install -y -qq --no-install-recommends $missing $wished >/dev/null
