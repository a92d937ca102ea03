# Reads "package coverage: 91.2% of statements" lines and fails where a package is below its limit. A package without
# statements has no percentage, and no line of its own: it stands before the next one.
{
  for (i = 2; $i != "coverage:" && i < NF; i++);
  name = $(i - 1)
  share = $(i + 1)
  sub(/%/, "", share)
  limit = 0
  if (name ~ /^lantern\/internal\/core/) limit = 90
  else if (name ~ /^lantern\/internal\/service/) limit = 85
  else if (name ~ /^lantern\/internal\/(httpd|cli)$/) limit = 80
  low = limit && share + 0 < limit
  printf "%-44s %6.1f %%%s\n", name, share, low ? "  below the limit of " limit " %" : ""
  if (low) bad++
}
END { exit bad > 0 }
