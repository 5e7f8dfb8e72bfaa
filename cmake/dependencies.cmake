# Every library comes from a Debian package; scripts/packages lists them.
find_package(Threads REQUIRED)
find_package(fmt REQUIRED)
find_package(CLI11 REQUIRED)
find_package(tomlplusplus REQUIRED)
find_package(nlohmann_json REQUIRED)
find_package(SQLite3 REQUIRED)
find_package(SQLiteCpp REQUIRED)
find_package(Eigen3 REQUIRED NO_MODULE)
find_package(TBB REQUIRED)
find_package(PNG REQUIRED)
find_package(Boost 1.74 REQUIRED)  # headers only: Boost.Math distributions
find_package(Protobuf REQUIRED)    # before ONNX, which expects its targets
find_package(ONNX REQUIRED)

find_path(XXHASH_INCLUDE_DIR xxhash.h REQUIRED)
find_library(XXHASH_LIBRARY xxhash REQUIRED)
find_path(TURBOJPEG_INCLUDE_DIR turbojpeg.h REQUIRED)
find_library(TURBOJPEG_LIBRARY turbojpeg REQUIRED)
find_path(RANDOM123_INCLUDE_DIR Random123/philox.h REQUIRED)

# The small matrix products: LIBXSMM where it exists (x86-64), Eigen elsewhere.
set(JEVRIN_LIBXSMM OFF)
if(CMAKE_SYSTEM_PROCESSOR MATCHES "x86_64|AMD64")
  find_path(LIBXSMM_INCLUDE_DIR libxsmm.h)
  find_library(LIBXSMM_LIBRARY xsmm)
  find_library(LIBXSMM_NOBLAS_LIBRARY xsmmnoblas)
  if(LIBXSMM_INCLUDE_DIR AND LIBXSMM_LIBRARY AND LIBXSMM_NOBLAS_LIBRARY)
    set(JEVRIN_LIBXSMM ON)
  endif()
endif()
