# What is installed: the library with its public headers, the tool, the demo's plans, man page and
# completion; as CMake package, pkg-config file and, by CPack, Debian package.
include(GNUInstallDirs)
include(CMakePackageConfigHelpers)

# Headers that a header of the project includes, itself first, each once.
function(collect_headers header result)
  set(found ${${result}})
  if(NOT header IN_LIST found)
    list(APPEND found ${header})
    file(STRINGS ${CMAKE_SOURCE_DIR}/${header} lines REGEX "^#include \"jevrin/")
    foreach(line IN LISTS lines)
      string(REGEX REPLACE "^#include \"(jevrin/[^\"]+)\".*" "\\1" included "${line}")
      collect_headers(${included} found)
    endforeach()
  endif()
  set(${result} ${found} PARENT_SCOPE)
endfunction()

# The list is kept by hand; what it holds and what the umbrella headers reach must be the same.
file(STRINGS cmake/public_headers.txt PUBLIC_HEADERS REGEX "^jevrin/")
set_property(DIRECTORY APPEND PROPERTY CMAKE_CONFIGURE_DEPENDS cmake/public_headers.txt)
set(reached "")
collect_headers(jevrin/jevrin.hpp reached)
collect_headers(jevrin/presentation.hpp reached)
foreach(header IN LISTS reached)
  if(NOT header IN_LIST PUBLIC_HEADERS)
    message(FATAL_ERROR "${header} would become public by accident: a public header includes it. Include it elsewhere, or "
                        "add it to cmake/public_headers.txt.")
  endif()
endforeach()
foreach(header IN LISTS PUBLIC_HEADERS)
  if(NOT header IN_LIST reached)
    message(FATAL_ERROR "cmake/public_headers.txt lists ${header}, which jevrin.hpp and presentation.hpp do not reach.")
  endif()
  get_filename_component(room ${header} DIRECTORY)
  install(FILES ${CMAKE_SOURCE_DIR}/${header} DESTINATION ${CMAKE_INSTALL_INCLUDEDIR}/${room} COMPONENT library)
endforeach()

install(TARGETS jevrin_core jevrin_presentation EXPORT jevrin_targets
        ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR} COMPONENT library)
install(EXPORT jevrin_targets FILE jevrin-targets.cmake NAMESPACE jevrin::
        DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/jevrin COMPONENT library)
configure_package_config_file(cmake/jevrin-config.cmake.in jevrin-config.cmake
                              INSTALL_DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/jevrin)
write_basic_package_version_file(jevrin-config-version.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/jevrin-config.cmake ${CMAKE_CURRENT_BINARY_DIR}/jevrin-config-version.cmake
        DESTINATION ${CMAKE_INSTALL_LIBDIR}/cmake/jevrin COMPONENT library)

if(JEVRIN_LIBXSMM)
  set(PKG_CONFIG_XSMM "-lxsmm -lxsmmnoblas -ldl")
endif()
# From where the file lies, so that the folder can be moved.
file(RELATIVE_PATH PKG_CONFIG_PREFIX /prefix/${CMAKE_INSTALL_LIBDIR}/pkgconfig /prefix)
configure_file(cmake/jevrin.pc.in jevrin.pc @ONLY)
install(FILES ${CMAKE_CURRENT_BINARY_DIR}/jevrin.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig COMPONENT library)

# The tool, and what belongs to it. The man page is the help text of every command.
add_custom_command(OUTPUT ${CMAKE_BINARY_DIR}/jevrin.1
                   COMMAND ${CMAKE_SOURCE_DIR}/scripts/man-page $<TARGET_FILE:jevrin> > ${CMAKE_BINARY_DIR}/jevrin.1
                   DEPENDS jevrin ${CMAKE_SOURCE_DIR}/scripts/man-page VERBATIM)
add_custom_target(man_page ALL DEPENDS ${CMAKE_BINARY_DIR}/jevrin.1)
# All that an installation needs, without examples and tests.
add_custom_target(installable DEPENDS jevrin man_page)
install(TARGETS jevrin RUNTIME DESTINATION ${CMAKE_INSTALL_BINDIR} COMPONENT tool)
if(JEVRIN_MPI)
  install(TARGETS jevrin_mpi LIBRARY DESTINATION ${CMAKE_INSTALL_LIBDIR}/jevrin COMPONENT mpi)
endif()
install(FILES ${CMAKE_BINARY_DIR}/jevrin.1 DESTINATION ${CMAKE_INSTALL_MANDIR}/man1 COMPONENT tool)
install(FILES cmake/completion.bash DESTINATION ${CMAKE_INSTALL_DATADIR}/bash-completion/completions RENAME jevrin
        COMPONENT tool)
install(FILES demo/glaze.toml demo/surfaces.toml demo/backbone.onnx
        DESTINATION ${CMAKE_INSTALL_DATADIR}/jevrin/demo COMPONENT tool)
install(FILES deploy/jevrin.service deploy/Containerfile DESTINATION ${CMAKE_INSTALL_DATADIR}/jevrin/deploy COMPONENT tool)
install(FILES README.md LICENSE DESTINATION ${CMAKE_INSTALL_DOCDIR} COMPONENT tool)
install(FILES docs/architecture.md docs/guide.md docs/library.md docs/formats.md docs/choice.md docs/diagnosis.md docs/performance.md docs/scaling.md
        DESTINATION ${CMAKE_INSTALL_DOCDIR}/docs COMPONENT tool)

set(CPACK_GENERATOR DEB)
set(CPACK_PACKAGE_NAME jevrin)
set(CPACK_PACKAGE_VENDOR "Jevrin's developers")
set(CPACK_PACKAGE_CONTACT "Jevrin's developers")
set(CPACK_DEBIAN_PACKAGE_SECTION science)
set(CPACK_DEBIAN_FILE_NAME DEB-DEFAULT)
# Libraries that the tool is linked with are found by themselves; figures need gnuplot and letters.
set(CPACK_DEBIAN_PACKAGE_SHLIBDEPS ON)
string(REPLACE ".so." "" avif_package "${JEVRIN_AVIF_LIBRARY}")  # loaded, not linked
set(CPACK_DEBIAN_PACKAGE_DEPENDS "gnuplot-nox, fonts-dejavu-core, ${avif_package}")
set(CPACK_DEBIAN_PACKAGE_SUGGESTS
    "libfmt-dev, nlohmann-json3-dev, libsqlitecpp-dev, libeigen3-dev, libtbb-dev, libpng-dev, zlib1g-dev, libturbojpeg0-dev, libwebp-dev, libtiff-dev, libgif-dev, libavif-dev, libzip-dev, libcsv-dev, libutf8proc-dev, libre2-dev, libonnx-dev, libprotobuf-dev, libxxhash-dev, libtomlplusplus-dev, libfontconfig-dev, libcpp-httplib-dev, libxsmm-dev")
# The module for jobs of several ranks is a package of its own, since it needs an MPI library.
set(CPACK_DEB_COMPONENT_INSTALL ON)
set(CPACK_COMPONENTS_ALL tool library)
set(CPACK_COMPONENT_TOOL_GROUP main)
set(CPACK_COMPONENT_LIBRARY_GROUP main)
set(CPACK_DEBIAN_MAIN_PACKAGE_NAME jevrin)
if(JEVRIN_MPI)
  list(APPEND CPACK_COMPONENTS_ALL mpi)
  set(CPACK_COMPONENT_MPI_GROUP mpi)
  set(CPACK_DEBIAN_MPI_DESCRIPTION "Module of Jevrin for jobs of several ranks by MPI")
  set(CPACK_DEBIAN_MPI_PACKAGE_NAME jevrin-mpi)
  set(CPACK_DEBIAN_MPI_PACKAGE_DEPENDS "jevrin (= ${PROJECT_VERSION})")
  set(CPACK_DEBIAN_MPI_PACKAGE_SUGGESTS openmpi-bin)
endif()
set(CPACK_PACKAGING_INSTALL_PREFIX /usr)
set(CPACK_STRIP_FILES ON)
include(CPack)
