#!/bin/sh
set -eu
cat >/usr/local/bin/lamp <<EOF
#!/bin/sh
echo "the lamp is lit (oil: $OIL)"
EOF
chmod 755 /usr/local/bin/lamp
