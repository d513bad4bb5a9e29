# The first process of a host, in namespaces of its own: it makes its root, over this
# machine's, and serves logins. $1 is a directory for it, $2 its name, $3 its people.
set -e
mount --make-rprivate /
mount -t tmpfs -o size=1g,mode=755 host "$1/layers"
mkdir "$1/layers/upper" "$1/layers/work" "$1/layers/root"
mount -t overlay -o "lowerdir=/,upperdir=$1/layers/upper,workdir=$1/layers/work" host "$1/layers/root"
cd "$1/layers/root"
mount -t proc proc proc
mount --rbind /dev dev
mount -t tmpfs -o mode=755 run run
mount -t tmpfs -o mode=1777 tmp tmp
mkdir -p run/sshd run/lab media old
cp "$1/../key.pub" "$1/hostkey" run/lab
hostname "$2"
{
	echo "root:x:0:0:root:/root:/bin/sh"
	echo "sshd:x:101:65534::/run/sshd:/usr/sbin/nologin"
	echo "_apt:x:42:65534::/nonexistent:/usr/sbin/nologin"
} >etc/passwd
echo "root:*:20000::::::" >etc/shadow
mount -t tmpfs -o mode=755 home home
uid=20001
for name in $3; do
	echo "$name:x:$uid:$uid::/home/$name:/bin/sh" >>etc/passwd
	mkdir -p "home/$name/Pictures/2026" "home/$name/.config"
	echo "a tern of $name, on $2" >"home/$name/Pictures/2026/tern"
	echo 'XDG_PICTURES_DIR="$HOME/Pictures"' >"home/$name/.config/user-dirs.dirs"
	chown -R "$uid:$uid" "home/$name"
	chmod 700 "home/$name"
	uid=$((uid + 1))
done
pivot_root . old
umount -l /old
rmdir /old
exec /usr/sbin/sshd -D -f /dev/null -h /run/lab/hostkey -o PidFile=none -o PermitRootLogin=yes \
	-o AuthorizedKeysFile=/run/lab/key.pub -o UsePAM=no -o StrictModes=no
