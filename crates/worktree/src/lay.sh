# Makes a repository with one commit of what is in the work folder, then runs the commands that are given.
# Ends with 97 when one of those fails, and says so last, to standard error.
set -eu
export GIT_CONFIG_NOSYSTEM=1 GIT_CONFIG_GLOBAL=/dev/null GIT_TERMINAL_PROMPT=0 GIT_LITERAL_PATHSPECS=1
export GIT_AUTHOR_NAME=trial GIT_AUTHOR_EMAIL=trial@localhost GIT_AUTHOR_DATE=2020-01-01T00:00:00Z
export GIT_COMMITTER_NAME=trial GIT_COMMITTER_EMAIL=trial@localhost GIT_COMMITTER_DATE=2020-01-01T00:00:00Z
git() {
  command git -c core.hooksPath=/dev/null -c core.fsmonitor=false -c core.autocrlf=false -c gc.auto=0 \
    -c core.logAllRefUpdates=false -c commit.gpgSign=false -c core.safecrlf=false "$@"
}
begin() {
  rm -rf .git
  git init -q --template=
  git symbolic-ref HEAD refs/heads/main
  git config user.name trial
  git config user.email trial@localhost
  # Views of the tree have other inodes, and the same times.
  git config core.checkStat minimal
  git config core.trustctime false
}
commit() {
  git commit -q --allow-empty --no-verify -m "The state to start from"
  git repack -a -d -q
  rm -rf .git/logs .git/COMMIT_EDITMSG .git/branches
}
tracked=$TMPDIR/tracked
begin
git add -A -f .
git ls-files -z >"$tracked"
commit
number=0
for command in "$@"; do
  number=$((number + 1))
  sh -c "$command" </dev/null || {
    echo "prepare-failed $number $?" >&2
    exit 97
  }
done
# What a command changed of the files, or of the repository, is part of what there is to start from.
if [ -L .git ] || ! git diff --quiet HEAD -- 2>/dev/null || [ "$(git rev-list --all --count)" != 1 ]; then
  begin
  git add -f --ignore-errors --pathspec-from-file="$tracked" --pathspec-file-nul || true
  commit
fi
