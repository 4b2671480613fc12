// The first page: a country brings its language, currency and time zone along, which can be changed.
export function start(form) {
  form.querySelector("[data-country]").addEventListener("change", (event) => {
    const { language, currency, zone } = event.target.selectedOptions[0].dataset;
    for (const [name, usual] of Object.entries({ locale: language, currency, timezone: zone })) {
      const option = [...form.elements[name].options].find((one) => one.value === usual);
      if (option) option.selected = true;
    }
  });
}
