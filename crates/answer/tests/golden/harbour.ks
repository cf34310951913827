# Harbour office server
# Neat Stack: erases = "yes"
lang nb_NO.UTF-8
keyboard --xlayouts='no'
timezone Europe/Oslo --utc
url --url=http://mirror.ferries.example:8080/debian
network --bootproto=static --device=enp1s0 --ip=192.0.2.10 --netmask=255.255.255.0 --gateway=192.0.2.1 --nameserver=192.0.2.53
network --hostname=harbour-1.ferries.example
rootpw --lock
user --name=harbourmaster --gecos="Harbour master" --groups=wheel,tide-tables --iscrypted --password=$6$rounds=5000$gsFS/02bG0JZvtJK$IIf1.bdGp3jRAscuJAEf33KiuS87.aSV6agIceX/DdDHlXyHq4BRrFGssz9XYhyNWsbWdWspbSm87JetUy9xP1
ignoredisk --only-use=vda
zerombr
clearpart --all --initlabel --disklabel=gpt --drives=vda
part /boot/efi --fstype=efi --size=512 --ondisk=vda
part / --fstype=ext4 --size=20480 --ondisk=vda
part /srv --fstype=ext4 --size=1024 --grow --ondisk=vda
bootloader --boot-drive=vda --append="console=tty0 console=ttyS0,115200n8"
services --enabled=sshd
firewall --enabled --ssh
reboot
%packages --exclude-weakdeps
nginx-light
%end
%pre --erroronfail
# Neat Stack: this machine
s=$(($(cat /sys/block/vda/size)/2048)) && [ $s -ge 19073 ] || exit 1
%end
%post --erroronfail
# Neat Stack: commands
set -e
mkdir -p /srv/tides
%end
%post --erroronfail
# Neat Stack: first start
mkdir -p /usr/local/lib/neatstack && echo IyEvYmluL3NoCiMgUnVucyBvbmNlLCB3aGVuIHRoZSBzeXN0ZW0gc3RhcnRzIGZpcnN0LgpleGVjID4+L3Zhci9sb2cvbmVhdHN0YWNrLWZpcnN0LXN0YXJ0LmxvZyAyPiYxCnN5c3RlbWN0bCBkaXNhYmxlIG5lYXRzdGFjay1maXJzdC1zdGFydC5zZXJ2aWNlCnJtIC1mICIkMCIKc2ggLWMgJ3N5c3RlbWN0bCBzdGFydCBuZ2lueCB8fCBlY2hvICciJyInbm8gd2ViIHNlcnZlciciJyInJyB8fCBlY2hvICJUaGlzIGVuZGVkIHdpdGggJD8uIgpzaCAtYyAndGlkZS1jbG9jayAtLWZvcmV2ZXInICYKc2ggLWMgJ2VjaG8gSXlFdlltbHVMM05vQ2lNZ1JtVjBZMmhsY3lCMGFHVWdkR0ZpYkdWeklHOW1JSFJwWkdWekxncGxZMmh2SUNKMGFXUmxjeUJ2WmlBa0tHaHZjM1J1WVcxbEtUb2dhWFFuY3lCY0ltaHBaMmhjSWlJZ1BpOXpjbll2ZEdsa1pYTXZkRzlrWVhrSyB8IGJhc2U2NCAtZCA+L3Jvb3QvdGlkZXMuc2ggJiYgY2htb2QgNzAwIC9yb290L3RpZGVzLnNoICYmIC9yb290L3RpZGVzLnNoICYmIHJtIC9yb290L3RpZGVzLnNoJyB8fCBlY2hvICJUaGlzIGVuZGVkIHdpdGggJD8uIgo= | base64 -d >/usr/local/lib/neatstack/first-start && chmod 700 /usr/local/lib/neatstack/first-start && echo W1VuaXRdCkRlc2NyaXB0aW9uPVdoYXQgdGhlIGFuc3dlcnMgcnVuIHdoZW4gdGhlIHN5c3RlbSBzdGFydHMgZmlyc3QKQ29uZGl0aW9uUGF0aEV4aXN0cz0vdXNyL2xvY2FsL2xpYi9uZWF0c3RhY2svZmlyc3Qtc3RhcnQKV2FudHM9bmV0d29yay1vbmxpbmUudGFyZ2V0CkFmdGVyPW5ldHdvcmstb25saW5lLnRhcmdldApCZWZvcmU9Z2V0dHkudGFyZ2V0IGRpc3BsYXktbWFuYWdlci5zZXJ2aWNlCgpbU2VydmljZV0KVHlwZT1vbmVzaG90CkV4ZWNTdGFydD0vdXNyL2xvY2FsL2xpYi9uZWF0c3RhY2svZmlyc3Qtc3RhcnQKS2lsbE1vZGU9cHJvY2VzcwoKW0luc3RhbGxdCldhbnRlZEJ5PW11bHRpLXVzZXIudGFyZ2V0Cg== | base64 -d >/etc/systemd/system/neatstack-first-start.service && systemctl enable neatstack-first-start.service
%end
