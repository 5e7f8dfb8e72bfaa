#include "embedded.hpp"

// The assembler copies the files in; both are files of this directory, named by the build.
#define JEVRIN_EMBED(symbol, file)                                                  \
    __asm__(".section .rodata\n.balign 16\n.global " #symbol                        \
            "\n"                                                                    \
            ".hidden " #symbol "\n.hidden " #symbol                                 \
            "_end\n"                                                                \
            ".global " #symbol "_end\n" #symbol ":\n.incbin \"" file "\"\n" #symbol \
            "_end:\n.byte 0\n.previous\n");                                         \
    extern "C" const char symbol[];                                                 \
    extern "C" const char symbol##_end[]

JEVRIN_EMBED(jevrin_demo_glaze_plan, JEVRIN_DEMO_DIRECTORY "/glaze.toml");
JEVRIN_EMBED(jevrin_demo_backbone, JEVRIN_DEMO_DIRECTORY "/backbone.onnx");

namespace jevrin::demo {

std::string_view glaze_plan() {
    return {jevrin_demo_glaze_plan,
            // cppcheck-suppress comparePointers
            static_cast<std::size_t>(jevrin_demo_glaze_plan_end - jevrin_demo_glaze_plan)};
}
std::string_view backbone_model() {
    // cppcheck-suppress comparePointers
    return {jevrin_demo_backbone, static_cast<std::size_t>(jevrin_demo_backbone_end - jevrin_demo_backbone)};
}

}  // namespace jevrin::demo
