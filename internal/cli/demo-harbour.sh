#!/bin/sh
# A stand-in for a system of its own: a message store whose messages are lines of a file.
set -eu
store=messages.txt
[ -z "${GRAINKEEP_SCRATCH:-}" ] || store=$GRAINKEEP_SCRATCH/messages.txt # a drill's scratch instance
case $1 in
dump) cat messages.txt ;;
restore) cat >"$store" ;;
check) echo "messages: $(wc -l <"$store")" && echo "checksum: $(cksum <"$store")" ;;
esac
