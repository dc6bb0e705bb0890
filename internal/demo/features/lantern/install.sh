#!/bin/sh
set -eu
mkdir -p /opt/lantern/bin
cat >/opt/lantern/bin/lantern <<EOF
#!/bin/sh
echo "a $COLOUR light, seen for $RANGE miles, kept by $_REMOTE_USER"
EOF
chmod 755 /opt/lantern/bin/lantern
echo "installed for $_REMOTE_USER, at home in $_REMOTE_USER_HOME"
