#!/usr/bin/env python3
"""A training loop outside of Jevrin whose runs stand beside Jevrin's, with Python's standard library alone.

    train_elsewhere.py URL KEY IMAGES [--seeds 1,2] [--epochs 5] [--candidate NAME]

It asks the service which image is in which part, trains a softmax regression on the histogram of each file's
bytes (a stand-in for a real network), and reports every epoch as it ends. Each request may be repeated: after a
lost connection or a restart of either side it goes on where the service is.
"""
import argparse
import http.client
import json
import math
import pathlib
import random
import time
import urllib.error
import urllib.parse
import urllib.request


class Service:
    def __init__(self, url, key):
        self.url, self.key = url.rstrip("/"), key

    def ask(self, method, path, body=None, patience=30.0):
        """Repeats a request until it is answered; what the service refuses is an error with its reason."""
        data = None if body is None else json.dumps(body).encode()
        headers = {"Authorization": f"Bearer {self.key}", "Content-Type": "application/json"}
        until = time.monotonic() + patience
        while True:
            request = urllib.request.Request(self.url + path, data=data, method=method, headers=headers)
            try:
                with urllib.request.urlopen(request, timeout=30) as answer:
                    return json.load(answer)
            except urllib.error.HTTPError as error:
                if error.code not in (429, 503) or time.monotonic() > until:
                    raise SystemExit(f"{method} {path}: {json.load(error)['detail']}")
            except (urllib.error.URLError, http.client.HTTPException, ConnectionError, TimeoutError):
                if time.monotonic() > until:
                    raise
            time.sleep(0.2)


def features_of(file):
    """What stands in for an image: how often its bytes are how large, in 32 bins."""
    counts = [0] * 32
    data = file.read_bytes()
    for byte in data:
        counts[byte >> 3] += 1
    return [32 * count / len(data) for count in counts] + [1.0]


def softmax(weights, x):
    scores = [sum(w * v for w, v in zip(row, x)) for row in weights]
    highest = max(scores)
    powers = [math.exp(score - highest) for score in scores]
    return [power / sum(powers) for power in powers]


def loss_of(weights, items, labels):
    return -sum(math.log(max(1e-12, softmax(weights, x)[y])) for x, y in zip(items, labels)) / len(items)


def train(service, parts, images, candidate, seed, epochs):
    classes = parts["classes"]
    place = {name: i for i, name in enumerate(classes)}
    items = {part: [i for i in parts["items"] if i["part"] == part] for part in ("training", "validation")}
    x = {part: [features_of(images / i["path"]) for i in rows] for part, rows in items.items()}
    y = {part: [place[i["label"]] for i in rows] for part, rows in items.items()}

    run = service.ask("POST", "/v1/runs", {
        "split": parts["split"], "candidate": candidate, "regime": "scratch", "seed": seed,
        "program": "train_elsewhere.py", "hardware": "one core", "settings": {"learning_rate": 0.05},
        "planned_epochs": epochs, "batch": 1, "parameters": 33 * len(classes),
        "trainable_parameters": 33 * len(classes)})
    if run["state"] == "finished":
        return run

    draw = random.Random(seed)
    weights = [[draw.gauss(0.0, 0.01) for _ in range(33)] for _ in classes]
    best = (-1.0, None, 0)
    for epoch in range(1, epochs + 1):
        begin, loss = time.monotonic(), 0.0
        order = list(range(len(x["training"])))
        draw.shuffle(order)
        for i in order:
            p = softmax(weights, x["training"][i])
            loss -= math.log(max(1e-12, p[y["training"][i]]))
            for c, row in enumerate(weights):
                step = 0.05 * ((1.0 if c == y["training"][i] else 0.0) - p[c])
                for k, value in enumerate(x["training"][i]):
                    row[k] += step * value
        probabilities = [softmax(weights, row) for row in x["validation"]]
        predicted = [max(range(len(classes)), key=row.__getitem__) for row in probabilities]
        recalls = [[p == c for p, t in zip(predicted, y["validation"]) if t == c] for c in range(len(classes))]
        balanced = sum(sum(hits) / len(hits) for hits in recalls) / len(classes)
        if balanced > best[0]:
            best = (balanced, probabilities, epoch)
        if epoch <= run["epochs"]:  # reported before this program was started again
            continue
        service.ask("PUT", f"/v1/runs/{run['id']}/epochs/{epoch}", {
            "step": epoch * len(order), "training_loss": loss / len(order),
            "validation_loss": loss_of(weights, x["validation"], y["validation"]), "learning_rate": 0.05,
            "seconds": time.monotonic() - begin, "predicted": predicted})
    service.ask("PUT", f"/v1/runs/{run['id']}/predictions", {"probabilities": best[1]})
    return service.ask("POST", f"/v1/runs/{run['id']}/finish", {"best_epoch": best[2]})


def main():
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("url")
    options.add_argument("key")
    options.add_argument("images", type=pathlib.Path)
    options.add_argument("--study", default="")
    options.add_argument("--candidate", default="byte histogram")
    options.add_argument("--seeds", default="1,2,3")
    options.add_argument("--epochs", type=int, default=5)
    options = options.parse_args()
    service = Service(options.url, options.key)
    query = f"?study={urllib.parse.quote(options.study)}" if options.study else ""
    parts = service.ask("GET", "/v1/parts" + query)
    for seed in options.seeds.split(","):
        run = train(service, parts, options.images, options.candidate, int(seed), options.epochs)
        print(f"{run['run']}: {run['state']}, {run['epochs']} epochs, best at {run['best_epoch']}")


if __name__ == "__main__":
    main()
