version https://git-lfs.github.com/spec/v1
oid sha256:4e30026d17684b120fdfa3844c8aa691df55fd5ecf18e22eebae89138dae0790
size 14800442
