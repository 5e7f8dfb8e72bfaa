# Compiler settings shared by every target of the project.
add_library(jevrin_settings INTERFACE)
target_compile_options(jevrin_settings INTERFACE -Wall -Wextra -Wpedantic -Wshadow=local -Wnon-virtual-dtor
                                                 -Woverloaded-virtual
                                                 -Wno-missing-field-initializers)
if(JEVRIN_WERROR)
  target_compile_options(jevrin_settings INTERFACE -Werror)
endif()
# Sums keep the order in which they are written: no fast-math. Square roots need no errno, which lets them vectorise.
target_compile_options(jevrin_settings INTERFACE -fno-math-errno -fno-trapping-math)

if(JEVRIN_SANITIZE STREQUAL "address")
  add_compile_options(-fsanitize=address,undefined -fno-omit-frame-pointer -fno-sanitize-recover=undefined)
  add_compile_definitions(_GLIBCXX_ASSERTIONS)  # elements beyond the end within what a vector has reserved
  # False positives of GCC in <regex> and fmt when code is instrumented.
  add_compile_options(-Wno-maybe-uninitialized -Wno-stringop-overflow)
  add_link_options(-fsanitize=address,undefined)
elseif(JEVRIN_SANITIZE STREQUAL "thread")
  add_compile_options(-fsanitize=thread -fno-omit-frame-pointer)
  add_link_options(-fsanitize=thread)
elseif(NOT JEVRIN_SANITIZE STREQUAL "")
  message(FATAL_ERROR "JEVRIN_SANITIZE is '${JEVRIN_SANITIZE}'; it may be address, thread or empty")
endif()

if(JEVRIN_LIBFUZZER)
  add_compile_options(-fsanitize=fuzzer-no-link,address)
  add_link_options(-fsanitize=address)
endif()

# The compiler collects garbage less often: a tenth of its time, for a gigabyte of memory.
if(CMAKE_CXX_COMPILER_ID STREQUAL "GNU")
  target_compile_options(jevrin_settings INTERFACE "SHELL:--param ggc-min-expand=200"
                                                   "SHELL:--param ggc-min-heapsize=1000000")
endif()

# Most of the time of a build goes into reading the same headers again for each source. A target that compiles with the
# same options as another one reuses what was precompiled for that.
set(COMMON_HEADERS <algorithm> <array> <cmath> <cstdint> <filesystem> <functional> <map> <memory> <numeric> <optional>
                   <set> <span> <string> <string_view> <utility> <variant> <vector> <fmt/format.h>)
function(precompile_headers target)
  cmake_parse_arguments(PARSE_ARGV 1 ARG "" "REUSE_FROM" "")
  if(NOT JEVRIN_QUICK_BUILD)
    return()
  endif()
  if(ARG_REUSE_FROM)
    target_precompile_headers(${target} REUSE_FROM ${ARG_REUSE_FROM})
  else()
    target_precompile_headers(${target} PRIVATE ${COMMON_HEADERS} ${ARG_UNPARSED_ARGUMENTS})
  endif()
endfunction()

# Where nothing is computed, building quickly counts for more: optimisation takes most of the time of a source, and
# headers most of the rest, which sources that are compiled together read once. The level is that of a release; other
# build types say it themselves.
function(build_quickly target level)
  target_compile_options(${target} PRIVATE $<$<CONFIG:Release>:${level}>)
  set_target_properties(${target} PROPERTIES UNITY_BUILD ${JEVRIN_QUICK_BUILD} UNITY_BUILD_BATCH_SIZE 8)
endfunction()
