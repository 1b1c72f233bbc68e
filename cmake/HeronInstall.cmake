# `cmake --install`: headers, libraries, and the two ways to find them.
include(CMakePackageConfigHelpers)
set(package_dir ${CMAKE_INSTALL_LIBDIR}/cmake/AbleHeron)
install(DIRECTORY ${PROJECT_SOURCE_DIR}/include/heron DESTINATION ${CMAKE_INSTALL_INCLUDEDIR})
install(TARGETS ${HERON_LIBRARIES} EXPORT AbleHeronTargets ARCHIVE DESTINATION ${CMAKE_INSTALL_LIBDIR})
install(EXPORT AbleHeronTargets NAMESPACE AbleHeron:: DESTINATION ${package_dir})
set(HERON_ALL core render files draw plot reader camera http_camera genicam link modbus_link mqtt_link http_link store station simulation)
set(HERON_BUILT "")
foreach(library ${HERON_LIBRARIES})
  string(REPLACE heron_ "" component ${library})
  list(APPEND HERON_BUILT ${component})
endforeach()
configure_package_config_file(cmake/AbleHeronConfig.cmake.in ${PROJECT_BINARY_DIR}/AbleHeronConfig.cmake
  INSTALL_DESTINATION ${package_dir})
write_basic_package_version_file(${PROJECT_BINARY_DIR}/AbleHeronConfigVersion.cmake COMPATIBILITY SameMinorVersion)
install(FILES ${PROJECT_BINARY_DIR}/AbleHeronConfig.cmake ${PROJECT_BINARY_DIR}/AbleHeronConfigVersion.cmake
  DESTINATION ${package_dir})
# The tree may be moved after it was installed: the prefix is told from where the .pc file lies.
file(RELATIVE_PATH pc_to_prefix /prefix/${CMAKE_INSTALL_LIBDIR}/pkgconfig /prefix)
foreach(name ableheron-core ableheron)
  configure_file(cmake/${name}.pc.in ${PROJECT_BINARY_DIR}/${name}.pc @ONLY)
  install(FILES ${PROJECT_BINARY_DIR}/${name}.pc DESTINATION ${CMAKE_INSTALL_LIBDIR}/pkgconfig)
endforeach()
