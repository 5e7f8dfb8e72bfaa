// A network defined in code, trained on a folder of images: own_network IMAGES
#include <fmt/format.h>
#include <jevrin/jevrin.hpp>

#include <cstdio>

int main(int argc, char** argv) {
    using namespace jevrin;
    if (argc != 2) {
        fmt::print(stderr, "usage: own_network IMAGES\n");
        return 2;
    }
    try {
        const ImageSet set = read_image_set({.from = argv[1]});
        const PreparedImages images(set, {.size = 32});
        TrainingData data{.images = &images, .classes = set.classes.size()};
        for (const Item& item : set.items) data.labels.push_back(item.label);
        data.parts = split_into_parts(set, {.training = 0.7, .validation = 0.3, .test = 0.0});

        const LayerList layers{
            {{.kind = LayerKind::convolution, .width = 16, .stride = 2},
             {.kind = LayerKind::normalisation},
             {.kind = LayerKind::activation},
             {.kind = LayerKind::residual_block, .width = 32, .stride = 2},
             {.kind = LayerKind::global_average},
             {.kind = LayerKind::dense, .width = static_cast<std::int64_t>(data.classes)}}};
        Network network = layer_network(layers, {32, 32, 3});
        initialise(network, 1, 1);

        const TrainingSettings settings{.epochs = 4, .batch = 8};
        RunTrainer trainer(data, network, 1, images.scaling_of(data.parts.training), settings, 1);
        while (!trainer.finished()) {
            const EpochResult epoch = trainer.train_epoch();
            std::vector<std::size_t> labels;
            for (const std::size_t item : epoch.validation.items) labels.push_back(data.labels[item]);
            const ConfusionMatrix matrix(data.classes, labels, epoch.validation.classes());
            fmt::print("epoch {}: loss {:.3f} on training, balanced accuracy {:.3f} on validation\n",
                       epoch.epoch, epoch.training_loss, matrix.balanced_accuracy());
        }
        return 0;
    } catch (const Error& error) {
        fmt::print(stderr, "{}\n", error.what());
        return 2;
    }
}
