# Lab PCs of Saltmarsh School
# Neat Stack: erases = "yes"
lang en_GB.UTF-8
keyboard --xlayouts='gb'
timezone Europe/London --utc
rootpw --lock
user --name=teacher --gecos="The teacher's desk" --groups=wheel --iscrypted --password=$6$rounds=5000$P4ALha.yfZUJcLch$r2a94UW4JsWtFcJN.m0y4c9RIArfIYNC8ZZPccUy342UTlgw/jxtbJKZBkFIWpCCuppVAWYO.GCL3Wd9ZVJ3F1
user --name=pupil --gecos=Pupils --iscrypted --password=$6$saltsaltsalt$X7zP1Yy4m3xZb5jQmWv8nEw0gqjD0i3R3D5gZyN4lJ1s2k3O4p5Q6r7S8t9U0v1W2x3Y4z5A6b7C8d9E0f1G/.
ignoredisk --only-use=sda
zerombr
clearpart --all --initlabel --disklabel=gpt --drives=sda
part /boot/efi --fstype=efi --size=512 --ondisk=sda
part swap --size=4096 --ondisk=sda
part / --fstype=ext4 --size=1024 --grow --ondisk=sda --label=lab
bootloader --boot-drive=sda
services --enabled=sshd
firewall --enabled --ssh
poweroff
%include /tmp/neatstack-name.ks
%packages
vim
gcompris-qt
-nano
%end
%pre --erroronfail
# Neat Stack: this machine
s=$(($(cat /sys/block/sda/size)/2048)) && [ $s -ge 0 ] && { n=0; for d in /sys/block/*; do case $(readlink -f $d) in (*/virtual/*|*/usb*|*/session*|*/sr[0-9]*|*/fd[0-9]*|*boot[0-9]|*rpmb) ;; (*) [ $(cat $d/removable) -eq 1 ] || n=$((n+1)) ;; esac; done; [ $n -eq 1 ]; } || exit 1
echo "network --hostname=$(echo "lab-$(tr -cd A-Za-z0-9- </sys/class/dmi/id/product_serial | cut -c 1-40)" | sed 's/^-*//;s/-*$//;s/^$/machine/')" >/tmp/neatstack-name.ks
%end
%post --erroronfail
# Neat Stack: commands
set -e
# No printers here
systemctl disable 'cups browsed'
%end
%post --erroronfail
# Neat Stack: script desk.sh
#!/bin/sh
echo "desk ready: $(hostname)" > /etc/motd
%end
