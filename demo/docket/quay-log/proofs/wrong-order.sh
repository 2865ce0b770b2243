#!/bin/sh
awk 'NF >= 3 { total[$2] += $3 } END { for (quay in total) print quay, total[quay] }' | sort -r
