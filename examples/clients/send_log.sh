#!/bin/sh
# Sends a run that any program has logged: send_log.sh URL KEY CANDIDATE REGIME SEED LOG.csv PREDICTIONS.csv
#
# LOG.csv: a head, then a row for each epoch: epoch,training_loss,validation_loss,accuracy,seconds. PREDICTIONS.csv: item and a
# probability for each class, of the best epoch. Every request may be repeated, so that the whole may.
set -eu
url=$1 key=$2 candidate=$3 regime=$4 seed=$5 log=$6 predictions=$7

# METHOD PATH [curl's options]: prints the answer; repeats while the service cannot be reached or is busy.
ask() {
    method=$1 path=$2
    shift 2
    curl --silent --show-error --fail-with-body --retry 10 --retry-connrefused --retry-delay 1 \
         --request "$method" --header "Authorization: Bearer $key" "$@" "$url$path"
}
json='Content-Type: application/json'

split=$(ask GET /v1/parts | sed -n 's/^ *"split": "\([0-9a-f]*\)".*/\1/p' | head -1)
run=$(ask POST /v1/runs --header "$json" --data \
    "{\"split\": \"$split\", \"candidate\": \"$candidate\", \"regime\": \"$regime\", \"seed\": $seed, \"program\": \"send_log.sh\"}" |
    sed 's/.*"id":\([0-9]*\).*/\1/')

tail -n +2 "$log" | while IFS=, read -r epoch training_loss validation_loss accuracy seconds; do
    ask PUT "/v1/runs/$run/epochs/$epoch" --header "$json" --data \
        "{\"training_loss\": $training_loss, \"validation_loss\": $validation_loss,
          \"scores\": {\"accuracy\": $accuracy}, \"seconds\": $seconds}" > /dev/null
done
ask PUT "/v1/runs/$run/predictions" --header 'Content-Type: text/csv' --data-binary "@$predictions" > /dev/null
ask POST "/v1/runs/$run/finish"
echo
