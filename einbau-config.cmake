# find_package(einbau) gives einbau::einbau_core and einbau::einbau_host.
include(CMakeFindDependencyMacro)
find_dependency(PkgConfig)
pkg_check_modules(JANSSON REQUIRED IMPORTED_TARGET jansson)
pkg_check_modules(YAML REQUIRED IMPORTED_TARGET yaml-0.1)
pkg_check_modules(SODIUM REQUIRED IMPORTED_TARGET libsodium)
pkg_check_modules(ZLIB REQUIRED IMPORTED_TARGET zlib)
pkg_check_modules(MNL REQUIRED IMPORTED_TARGET libmnl)
include(${CMAKE_CURRENT_LIST_DIR}/einbau-targets.cmake)
