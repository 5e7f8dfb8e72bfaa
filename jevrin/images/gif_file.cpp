#include "jevrin/base/error.hpp"
#include "jevrin/images/decoders.hpp"

#include <fmt/format.h>
#include <gif_lib.h>

#include <algorithm>
#include <cstring>
#include <memory>

namespace jevrin::inline v1 {
namespace {

// giflib, reading from memory up to the first frame.
class GifReader {
  public:
    explicit GifReader(std::span<const std::byte> bytes) : bytes_(bytes) {
        int error = 0;
        gif_.reset(DGifOpen(this, read, &error));
        if (!gif_) fail(error);
        require_allowed_size(gif_->SWidth, gif_->SHeight);
        to_first_frame();
    }

    std::int64_t width() const { return gif_->SWidth; }
    std::int64_t height() const { return gif_->SHeight; }
    bool has_alpha() const { return transparent_ >= 0; }
    bool is_grey() const {
        const ColorMapObject& colours = palette();
        return std::all_of(colours.Colors, colours.Colors + colours.ColorCount,
                           [](const GifColorType& c) { return c.Red == c.Green && c.Green == c.Blue; });
    }

    // What the frame leaves of the screen is transparent.
    TransparentImage frame() {
        const GifImageDesc& place = gif_->Image;
        const ColorMapObject& colours = palette();
        TransparentImage image{width(), height(), {}};
        image.pixels.assign(static_cast<std::size_t>(width() * height() * 4), 0);
        if (place.Left < 0 || place.Top < 0 || place.Width < 1 || place.Height < 1 ||
            place.Left + place.Width > width() || place.Top + place.Height > height())
            throw InputError("it is a damaged GIF (its frame lies outside the image)");
        std::vector<GifPixelType> row(static_cast<std::size_t>(place.Width));
        // Interlaced rows come in four passes.
        struct Pass {
            int first;
            int step;
        };
        const std::vector<Pass> passes =
            place.Interlace ? std::vector<Pass>{{0, 8}, {4, 8}, {2, 4}, {1, 2}} : std::vector<Pass>{{0, 1}};
        for (const Pass& pass : passes)
            for (int y = pass.first; y < place.Height; y += pass.step) {
                if (DGifGetLine(gif_.get(), row.data(), place.Width) == GIF_ERROR) fail(gif_->Error);
                std::uint8_t* to = image.pixels.data() + ((place.Top + y) * width() + place.Left) * 4;
                for (const GifPixelType index : row) {
                    if (index != transparent_ && index < colours.ColorCount) {
                        const GifColorType& colour = colours.Colors[index];
                        to[0] = colour.Red;
                        to[1] = colour.Green;
                        to[2] = colour.Blue;
                        to[3] = 255;
                    }
                    to += 4;
                }
            }
        return image;
    }

  private:
    void to_first_frame() {
        for (;;) {
            GifRecordType record = UNDEFINED_RECORD_TYPE;
            if (DGifGetRecordType(gif_.get(), &record) == GIF_ERROR) fail(gif_->Error);
            if (record == TERMINATE_RECORD_TYPE) throw InputError("it is a damaged GIF (it holds no image)");
            if (record == IMAGE_DESC_RECORD_TYPE) {
                if (DGifGetImageDesc(gif_.get()) == GIF_ERROR) fail(gif_->Error);
                return;
            }
            if (record != EXTENSION_RECORD_TYPE) continue;
            int code = 0;
            GifByteType* extension = nullptr;
            if (DGifGetExtension(gif_.get(), &code, &extension) == GIF_ERROR) fail(gif_->Error);
            while (extension != nullptr) {
                GraphicsControlBlock control;
                if (code == GRAPHICS_EXT_FUNC_CODE &&
                    DGifExtensionToGCB(extension[0], extension + 1, &control) == GIF_OK)
                    transparent_ = control.TransparentColor;
                if (DGifGetExtensionNext(gif_.get(), &extension) == GIF_ERROR) fail(gif_->Error);
            }
        }
    }
    const ColorMapObject& palette() const {
        const ColorMapObject* const colours =
            gif_->Image.ColorMap != nullptr ? gif_->Image.ColorMap : gif_->SColorMap;
        if (colours == nullptr) throw InputError("it is a damaged GIF (it has no palette)");
        return *colours;
    }
    [[noreturn]] static void fail(int error) {
        const char* const text = GifErrorString(error);
        throw InputError(fmt::format("it is a damaged GIF ({})", text == nullptr ? "truncated" : text));
    }
    static int read(GifFileType* gif, GifByteType* to, int length) {
        auto& reader = *static_cast<GifReader*>(gif->UserData);
        const std::size_t count =
            std::min(static_cast<std::size_t>(std::max(0, length)), reader.bytes_.size() - reader.at_);
        std::memcpy(to, reader.bytes_.data() + reader.at_, count);
        reader.at_ += count;
        return static_cast<int>(count);
    }

    struct Close {
        void operator()(GifFileType* gif) const { DGifCloseFile(gif, nullptr); }
    };
    std::span<const std::byte> bytes_;
    std::size_t at_ = 0;
    std::unique_ptr<GifFileType, Close> gif_;
    int transparent_ = NO_TRANSPARENT_COLOR;
};

}  // namespace

ImageFacts gif_facts(std::span<const std::byte> bytes) {
    const GifReader reader(bytes);
    return {.format = ImageFormat::gif,
            .width = reader.width(),
            .height = reader.height(),
            .channels = (reader.is_grey() ? 1 : 3) + (reader.has_alpha() ? 1 : 0)};
}

TransparentImage decode_transparent_gif(std::span<const std::byte> bytes) {
    return GifReader(bytes).frame();
}

}  // namespace jevrin::inline v1
