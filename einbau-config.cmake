# find_package(einbau) gives einbau::einbau (shared, with everything) and einbau::einbau_core (static, needs no other library); and
# einbau::einbau_host and einbau::einbau_sim (static) where pkg-config finds the libraries that they need.
include(CMakeFindDependencyMacro)
include(${CMAKE_CURRENT_LIST_DIR}/einbau-targets.cmake)
find_package(PkgConfig QUIET)
set(EINBAU_STATIC ${PKG_CONFIG_FOUND})
foreach(pair JANSSON:jansson YAML:yaml-0.1 SODIUM:libsodium CRYPTO:libcrypto ZLIB:zlib ARCHIVE:libarchive SQLITE:sqlite3 MNL:libmnl USB:libusb-1.0
        SECCOMP:libseccomp BLKID:blkid)
  string(REPLACE ":" ";" pair ${pair})
  list(GET pair 0 name)
  list(GET pair 1 package)
  if(EINBAU_STATIC)
    pkg_check_modules(${name} QUIET IMPORTED_TARGET ${package})
    set(EINBAU_STATIC ${${name}_FOUND})
  endif()
endforeach()
if(EINBAU_STATIC)
  include(${CMAKE_CURRENT_LIST_DIR}/einbau-static-targets.cmake)
endif()
