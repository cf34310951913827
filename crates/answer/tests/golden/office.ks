# Ticket office server
# Neat Stack: erases = "yes"
lang de_CH.UTF-8
keyboard --xlayouts='ch'
timezone Europe/Zurich --utc
network --bootproto=static --device=eth0 --ip=192.0.2.10 --netmask=255.255.255.0 --gateway=192.0.2.1 --nameserver=192.0.2.53,192.0.2.54
network --hostname=tickets.office.example
rootpw --iscrypted $6$office$1a2b3c4d5e6f7g8h9i0jKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789ABCDEFGHIJKLMNOPqrs
user --name=anna --gecos="Anna O'Quay, office" --groups=wheel --iscrypted --password=$6$anna$1a2b3c4d5e6f7g8h9i0jKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789ABCDEFGHIJKLMNOPqrs
user --name=till --gecos="The till" --groups=lpadmin,users --iscrypted --password=$6$till$1a2b3c4d5e6f7g8h9i0jKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789ABCDEFGHIJKLMNOPqrs
ignoredisk --only-use=sda
zerombr
clearpart --all --initlabel --disklabel=gpt --drives=sda
part /boot/efi --fstype=efi --size=512 --ondisk=sda
part /boot --fstype=ext4 --size=1024 --ondisk=sda
part swap --size=8192 --ondisk=sda
part / --fstype=xfs --size=1024 --grow --ondisk=sda
bootloader --boot-drive=sda
services --enabled=sshd
firewall --enabled --ssh
reboot
%packages
cups
postgresql
-games-minimal
%end
%pre --erroronfail
# Neat Stack: this machine
s=$(($(cat /sys/block/sda/size)/2048)) && [ $s -ge 0 ] && [ $s -le 4194304 ] && { n=0; for d in /sys/block/*; do case $(readlink -f $d) in (*/virtual/*|*/usb*|*/session*|*/sr[0-9]*|*/fd[0-9]*|*boot[0-9]|*rpmb) ;; (*) [ $(cat $d/removable) -eq 1 ] || n=$((n+1)) ;; esac; done; [ $n -eq 1 ]; } || exit 1
%end
%post --erroronfail
# Neat Stack: script tickets.sh
#!/bin/sh
set -eu
# "Quotes", 'more', $dollars, `ticks`, \backslashes\ and 100 % of it.
place=$(printf '%s' "the quay's office; & <more>")
printf '%s\n' "$place" >/etc/tickets.conf
%end
