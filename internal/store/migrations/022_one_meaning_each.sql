-- A recorder that records other recorders' channels is a cascade; what a site keeps is told in days; a video management
-- system is one; a device's address settings are its ip. What is known stays known, and what was changed stays told.
alter table device rename column feeds to cascade;
alter table site rename column keep_least to least_days;
alter table site rename column keep_most to most_days;

alter table system drop constraint system_kind_check;
update system set kind = 'vms' where kind = 'desk';
alter table system add constraint system_kind_check check (kind in ('vms', 'station', 'analyser', 'time'));

update change set kind = replace(kind, 'channel.feed', 'channel.cascade'), key = replace(key, 'channel.feed', 'channel.cascade') where kind like 'channel.feed%';
update change set kind = 'net.ip', key = 'net.ip',
  args = args - 'seat' - 'old_seat' || jsonb_strip_nulls(jsonb_build_object('ip', args -> 'seat', 'old_ip', args -> 'old_seat')) where kind = 'net.seat';
-- A preview lasts half an hour, and says what it shows in the words of before.
delete from preview;
