# Compiler settings shared by every target of the project.
add_library(jevrin_settings INTERFACE)
target_compile_options(jevrin_settings INTERFACE -Wall -Wextra -Wpedantic -Wshadow -Wnon-virtual-dtor
                                                 -Woverloaded-virtual
                                                 -Wno-missing-field-initializers)
if(JEVRIN_WERROR)
  target_compile_options(jevrin_settings INTERFACE -Werror)
endif()
# Sums keep the order in which they are written: no fast-math. Square roots need no errno, which lets them vectorise.
target_compile_options(jevrin_settings INTERFACE -fno-math-errno -fno-trapping-math)

if(JEVRIN_SANITIZE STREQUAL "address")
  add_compile_options(-fsanitize=address,undefined -fno-omit-frame-pointer -fno-sanitize-recover=undefined)
  add_link_options(-fsanitize=address,undefined)
elseif(JEVRIN_SANITIZE STREQUAL "thread")
  add_compile_options(-fsanitize=thread -fno-omit-frame-pointer)
  add_link_options(-fsanitize=thread)
elseif(NOT JEVRIN_SANITIZE STREQUAL "")
  message(FATAL_ERROR "JEVRIN_SANITIZE is '${JEVRIN_SANITIZE}'; it may be address, thread or empty")
endif()

find_program(CCACHE_PROGRAM ccache)
if(CCACHE_PROGRAM AND NOT CMAKE_CXX_COMPILER_LAUNCHER)
  set(CMAKE_CXX_COMPILER_LAUNCHER ${CCACHE_PROGRAM})
endif()
