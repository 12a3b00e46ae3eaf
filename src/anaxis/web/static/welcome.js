// The secret of a one-time link stands behind # in its address: it is put into the form, and gone from the address.
const secret = document.getElementById("secret");
if (location.hash.length > 1) {
  secret.value = location.hash.slice(1);
  history.replaceState(null, "", location.pathname);
}
