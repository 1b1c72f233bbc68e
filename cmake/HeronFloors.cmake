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
pkg_check_modules(cairo REQUIRED IMPORTED_TARGET cairo)

set(HERON_LIBRARIES "")
function(heron_library name)
  cmake_parse_arguments(ARG "" "" "FOLDERS;PUBLIC;PRIVATE" ${ARGN})
  set(sources "")
  foreach(folder ${ARG_FOLDERS})
    file(GLOB found CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/src/${folder}/*.cpp)
    list(APPEND sources ${found})
  endforeach()
  add_library(heron_${name} STATIC ${sources})
  add_library(AbleHeron::${name} ALIAS heron_${name})
  target_include_directories(heron_${name}
    PUBLIC $<BUILD_INTERFACE:${PROJECT_SOURCE_DIR}/include> $<INSTALL_INTERFACE:${CMAKE_INSTALL_INCLUDEDIR}>
    PRIVATE ${PROJECT_SOURCE_DIR}/src)
  # Headers of others are not ours to warn about.
  target_link_libraries(heron_${name} PUBLIC ${ARG_PUBLIC} PRIVATE ${ARG_PRIVATE})
  set_target_properties(heron_${name} PROPERTIES EXPORT_NAME ${name})
  set(HERON_LIBRARIES ${HERON_LIBRARIES} heron_${name} PARENT_SCOPE)
endfunction()

heron_library(core FOLDERS base geometry image feature calibrate locate report
  PUBLIC Eigen3::Eigen PRIVATE fmt::fmt PkgConfig::hwy TBB::tbb)
heron_library(render FOLDERS render PUBLIC AbleHeron::core PRIVATE fmt::fmt)
heron_library(files FOLDERS files PUBLIC AbleHeron::core
  PRIVATE fmt::fmt PNG::PNG JPEG::JPEG TIFF::TIFF PkgConfig::tomlplusplus nlohmann_json::nlohmann_json)
heron_library(draw FOLDERS draw PUBLIC AbleHeron::core PRIVATE fmt::fmt PkgConfig::cairo)
heron_library(link FOLDERS link PUBLIC AbleHeron::core PRIVATE fmt::fmt Threads::Threads)
heron_library(station FOLDERS station PUBLIC AbleHeron::files AbleHeron::link PRIVATE fmt::fmt PkgConfig::tomlplusplus)
heron_library(standin FOLDERS standin PUBLIC AbleHeron::render AbleHeron::station PRIVATE fmt::fmt nlohmann_json::nlohmann_json)
