# Shared by the commands of bin/; sourced, not run.
STATE="${DIDACTOR_STATE:-$root/var}"
VENV="$STATE/venv"
