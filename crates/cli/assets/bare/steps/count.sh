# Keeps the looms that stopped at least so often as the first argument says.
mkdir -p build
awk -F, -v least="$1" 'NR == 1 || $3 >= least' data/looms.csv > build/often.csv
