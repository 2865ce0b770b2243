#!/bin/sh
awk 'NF >= 3 { total[$2] += 1 } END { for (quay in total) print quay, total[quay] }' | sort
