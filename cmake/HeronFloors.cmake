# One static library a floor or room; each names what it stands on. A room's sources are all files in its folder.
find_package(Eigen3 3.4 REQUIRED NO_MODULE)
find_package(fmt REQUIRED)
find_package(TBB REQUIRED)
find_package(PNG REQUIRED)
find_package(JPEG REQUIRED)
find_package(TIFF REQUIRED)
find_package(Threads REQUIRED)
find_package(nlohmann_json REQUIRED)
find_package(PkgConfig REQUIRED)
pkg_check_modules(hwy REQUIRED IMPORTED_TARGET libhwy)
pkg_check_modules(tomlplusplus REQUIRED IMPORTED_TARGET tomlplusplus)
pkg_check_modules(httplib REQUIRED IMPORTED_TARGET cpp-httplib)
pkg_check_modules(curl REQUIRED IMPORTED_TARGET libcurl)
pkg_check_modules(aravis REQUIRED IMPORTED_TARGET aravis-0.8)
pkg_check_modules(cairo REQUIRED IMPORTED_TARGET cairo)

set(HERON_LIBRARIES "")
function(heron_library name)
  cmake_parse_arguments(ARG "COLD" "" "FOLDERS;PUBLIC;PRIVATE" ${ARGN})
  set(sources "")
  foreach(folder ${ARG_FOLDERS})
    file(GLOB found CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/src/${folder}/*.cpp)
    list(APPEND sources ${found})
  endforeach()
  # Kernels are compiled once for each processor, each in a file of its own.
  foreach(source ${sources})
    file(STRINGS ${source} kernel REGEX "HWY_TARGET_INCLUDE" LIMIT_COUNT 1)
    if(kernel)
      set_source_files_properties(${source} PROPERTIES SKIP_UNITY_BUILD_INCLUSION ON)
    endif()
  endforeach()
  add_library(heron_${name} STATIC ${sources})
  add_library(AbleHeron::${name} ALIAS heron_${name})
  target_include_directories(heron_${name}
    PUBLIC $<BUILD_INTERFACE:${PROJECT_SOURCE_DIR}/include> $<INSTALL_INTERFACE:${CMAKE_INSTALL_INCLUDEDIR}>
    PRIVATE ${PROJECT_SOURCE_DIR}/src)
  target_compile_features(heron_${name} PUBLIC cxx_std_20)
  target_link_libraries(heron_${name} PUBLIC ${ARG_PUBLIC} PRIVATE ${ARG_PRIVATE})
  set_target_properties(heron_${name} PROPERTIES EXPORT_NAME ${name})
  if(ARG_COLD)  # waits for files, sockets and people: building it fast matters more
    target_compile_options(heron_${name} PRIVATE $<$<CONFIG:Release>:-O1>)
  endif()
  set(HERON_LIBRARIES ${HERON_LIBRARIES} heron_${name} PARENT_SCOPE)
endfunction()

heron_library(core FOLDERS base geometry image feature heights calibrate locate light report
  PUBLIC Eigen3::Eigen PRIVATE fmt::fmt PkgConfig::hwy TBB::tbb)
# Nearly every file reads these; read once, they no longer make half of the time to build.
target_precompile_headers(heron_core PRIVATE <Eigen/Geometry> <fmt/format.h> <algorithm> <functional> <memory> <optional> <string> <variant> <vector>)
heron_library(render FOLDERS render PUBLIC AbleHeron::core PRIVATE fmt::fmt)
heron_library(files COLD FOLDERS files PUBLIC AbleHeron::core
  PRIVATE fmt::fmt PNG::PNG JPEG::JPEG TIFF::TIFF PkgConfig::tomlplusplus nlohmann_json::nlohmann_json)
heron_library(draw COLD FOLDERS draw PUBLIC AbleHeron::core PRIVATE fmt::fmt PkgConfig::cairo)
heron_library(camera COLD FOLDERS camera PUBLIC AbleHeron::files PRIVATE fmt::fmt)
heron_library(http_camera COLD FOLDERS http_camera PUBLIC AbleHeron::camera PRIVATE fmt::fmt PkgConfig::curl)
heron_library(genicam COLD FOLDERS genicam PUBLIC AbleHeron::camera PRIVATE fmt::fmt PkgConfig::aravis)
heron_library(link COLD FOLDERS link PUBLIC AbleHeron::core PRIVATE AbleHeron::files fmt::fmt Threads::Threads)
heron_library(station COLD FOLDERS station PUBLIC AbleHeron::camera AbleHeron::link PRIVATE fmt::fmt PkgConfig::tomlplusplus)
# Its HTTP library defines words that other files of the room use.
set_source_files_properties(src/standin/cart_pictures.cpp PROPERTIES SKIP_UNITY_BUILD_INCLUSION ON)
heron_library(standin COLD FOLDERS standin PUBLIC AbleHeron::render AbleHeron::station
  PRIVATE fmt::fmt nlohmann_json::nlohmann_json PkgConfig::httplib Threads::Threads)
