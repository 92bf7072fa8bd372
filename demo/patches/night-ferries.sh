# Night Ferries, an old-style patch: it changes the game's files in place.
echo "Night Ferries: writing a boat, a whistle and two settings"
echo "mesh: moon ferry, 2 decks, lit" > data/ferries/moon_ferry.qmd
echo "mesh: night ferry, 2 decks, lanterns on" > data/ferries/night_ferry.qmd
echo "" >> config/sound.ini
echo "[whistle]" >> config/sound.ini
echo "at_night=soft" >> config/sound.ini
echo "patched by Night Ferries" > night-ferries.log
