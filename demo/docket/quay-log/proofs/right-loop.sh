#!/bin/sh
sort -k2,2 | {
  last=
  sum=0
  while read -r date quay crates; do
    [ -n "$crates" ] || continue
    if [ "$quay" != "$last" ]; then
      [ -z "$last" ] || echo "$last $sum"
      last=$quay
      sum=0
    fi
    sum=$((sum + crates))
  done
  [ -z "$last" ] || echo "$last $sum"
}
