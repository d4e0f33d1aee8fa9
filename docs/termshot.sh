#!/usr/bin/env bash
# termshot.sh OUT.png COMMAND [ARG ...]
#
# Runs COMMAND in a terminal of 126 columns and 60 lines on a virtual screen, waits until it has ended (at most TERMSHOT_S
# seconds, 120 by default), and saves what it shows, without the empty lines below it. TERMSHOT_AT=3.5 takes the picture that many seconds after the start
# instead, to catch a progress display; TERMSHOT_SHOW=TEXT is shown at the prompt in place of COMMAND.
# Needs, from the system's packages: xvfb xterm imagemagick fonts-dejavu-core
set -euo pipefail
(($# >= 2)) || { sed -n '2,8p' "$0" >&2; exit 2; }
for need in Xvfb xterm import convert; do
  command -v "$need" >/dev/null || { echo "no $need: install xvfb xterm imagemagick fonts-dejavu-core" >&2; exit 2; }
done
out=$(realpath -m "$1"); shift
mkdir -p "$(dirname "$out")"
work=$(mktemp -d)
cleanup() {
  [[ -z ${term:-} ]] || kill "$term" 2>/dev/null || true
  [[ -z ${screen:-} ]] || kill "$screen" 2>/dev/null || true
  rm -rf "$work"
}
trap cleanup EXIT

Xvfb -displayfd 3 -screen 0 1280x1240x24 -nolisten tcp 3>"$work/display" 2>/dev/null &
screen=$!
for _ in $(seq 100); do [[ -s $work/display ]] && break; sleep 0.05; done
export DISPLAY=:$(cat "$work/display")

printf '\033[1;32m$\033[0m %s\n' "${TERMSHOT_SHOW:-$*}" >"$work/prompt"
{
  echo "clear; cat $work/prompt"
  printf '%q ' "$@"
  printf '\necho $? >%s/status; printf "\\033[?25l"; sleep 600\n' "$work"
} >"$work/run"
xterm -fa 'DejaVu Sans Mono' -fs 12 -geometry 126x60+0+0 -bg '#14181c' -fg '#e6e6e6' -tn xterm-256color -e bash "$work/run" 2>/dev/null &
term=$!
if [[ -n ${TERMSHOT_AT:-} ]]; then
  sleep "$TERMSHOT_AT"
else
  for _ in $(seq $((${TERMSHOT_S:-120} * 5))); do [[ -e $work/status ]] && break; sleep 0.2; done
  sleep 0.4
fi
import -window root -depth 8 +dither -colors 64 -crop 1256x1198+3+3 +repage "$out"
shown=$(convert "$out" -bordercolor '#14181c' -border 1 -format '%@' info:)  # as 812x604+3+4
lowest=${shown#*x} && lowest=$((${lowest%%+*} + ${shown##*+} + 12))
convert "$out" -crop "1256x$lowest+0+0" +repage "$out"
echo "$out: exit status $(cat "$work/status" 2>/dev/null || echo 'still running')"
